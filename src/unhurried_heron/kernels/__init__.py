"""How a family marches: one compiled loop per family, plain arrays in and out, no Python objects."""
