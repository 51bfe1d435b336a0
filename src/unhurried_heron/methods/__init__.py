"""What a method is: coefficients as exact data, and what follows from them. No loops over time."""
