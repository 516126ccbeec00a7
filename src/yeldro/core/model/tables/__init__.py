"""What a database holds: tables, columns, keys, triggers, and the graph of its foreign keys."""
