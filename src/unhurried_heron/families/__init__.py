"""What ties a family of methods together: data, kernel, work space, tolerances, limits."""
