"""What could be cleaned up in a database, and where a value lives."""
