"""What all families march with: the loop, events, outcomes, polynomials."""
