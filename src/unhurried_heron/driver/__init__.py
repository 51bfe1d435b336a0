"""The driver: calls a kernel in chunks; recording, events, budgets, progress and interruption."""
