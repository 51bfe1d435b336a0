"""Tables and summaries for the terminal."""
