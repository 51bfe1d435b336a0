"""The family of collocation methods."""
