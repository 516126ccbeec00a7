"""Cleanups as SQL scripts: frames, statements and conditions in another system's SQL."""
