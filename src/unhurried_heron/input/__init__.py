"""What was said, word for word."""
