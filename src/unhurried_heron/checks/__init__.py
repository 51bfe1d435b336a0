"""A problem looked over before it runs."""
