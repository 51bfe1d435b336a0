"""Making it callable: written equations, ``@njit`` functions and plain Python become native functions alike."""
