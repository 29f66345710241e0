"""PostgreSQL."""
