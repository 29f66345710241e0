"""The Larkwater demo database and the walk through the whole job on it."""
