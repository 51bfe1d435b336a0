"""Linear systems, Jacobians and eigenvalues for every implicit family."""
