"""The command-line tool: parsing and printing only."""
