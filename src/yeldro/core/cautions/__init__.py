"""What may be other than what was meant: a file for each family of mistakes."""
