"""What studies share: what they are given, the runs that they try, references, tables of steps."""
