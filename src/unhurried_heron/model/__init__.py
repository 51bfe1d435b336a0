"""What the words mean: a model without values."""
