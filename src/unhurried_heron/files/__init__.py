"""What is kept: tables and summaries in open formats."""
