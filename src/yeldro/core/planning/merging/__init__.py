"""Duplicates merged into the row that stays: rows move to it, and it takes values."""
