"""Formulas: read, written, differentiated, simplified, bounded; trees that know nothing of problems."""
