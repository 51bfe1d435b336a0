"""Figures, each drawn from a small record of what it shows."""
