"""Compiled code: the march that all methods share, what each family answers it, linear algebra, events."""
