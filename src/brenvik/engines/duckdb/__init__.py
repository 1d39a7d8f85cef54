"""DuckDB databases."""
