"""Files that people write and read: cleanup files, project files, saved plans, SQL."""
