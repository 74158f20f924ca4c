"""Records in SQLite, plain SQL. One writer thread, read-only readers."""
