"""PostgreSQL databases."""
