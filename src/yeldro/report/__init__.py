"""Values in, text out. Nothing here writes to a terminal or a file."""
