"""What is in a database."""
