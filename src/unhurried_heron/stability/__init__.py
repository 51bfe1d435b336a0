"""Regions of absolute stability, eigenvalues along runs, and the largest stable step."""
