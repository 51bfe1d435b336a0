"""Many runs in one call: what varies, how the members march, and what is kept of them."""
