"""What solutions do in the long run: equilibria and their kinds, rest, and Lyapunov exponents."""
