"""Units and quantities."""
