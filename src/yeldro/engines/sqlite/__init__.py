"""SQLite: files on the user's own machine, changed by one writer at a time."""
