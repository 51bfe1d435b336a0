"""Bounds of formulas over intervals, and what is found by them."""
