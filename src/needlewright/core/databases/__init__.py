"""SQLite databases read without SQLite: live rows, older states, and rows that were removed."""
