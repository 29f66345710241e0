"""Scripts for an engine that nobody connects to, from its schema file."""
