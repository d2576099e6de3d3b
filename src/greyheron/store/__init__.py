"""Networks kept in SQLite."""
