"""SQLite databases."""
