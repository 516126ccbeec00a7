"""MariaDB: one server session, and InnoDB acting on no foreign key."""
