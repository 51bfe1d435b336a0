"""What held a run back, and what would do better."""
