"""What the core asks of a database: a port for each need, and the values that go between."""
