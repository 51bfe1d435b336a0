"""What was said comes to: a model without values."""
