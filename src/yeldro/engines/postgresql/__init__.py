"""PostgreSQL: one server session for each command."""
