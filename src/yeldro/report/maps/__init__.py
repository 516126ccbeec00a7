"""Maps of tables and foreign keys, as pictures and as text."""
