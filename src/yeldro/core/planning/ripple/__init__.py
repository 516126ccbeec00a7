"""All rows that a removal reaches, and the order in which they go."""
