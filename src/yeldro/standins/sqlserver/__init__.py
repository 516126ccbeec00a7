"""A stand-in for SQL Server: so far, what it refuses of the SQL that it is given."""
