"""Compiling kernels, and keeping what was compiled."""
