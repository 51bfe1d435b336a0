"""What comes out of an integration: the solution as a function, events, ledger, tally and ending."""
