"""SQL Server: its SQL, as the core's statements are written for it."""
