"""What is seen: figures and terminal tables, each drawn from a small record of what it shows."""
