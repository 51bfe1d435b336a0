"""What the user means: equations, values, interval and events, checked before anything runs."""
