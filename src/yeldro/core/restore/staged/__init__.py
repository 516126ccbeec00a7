"""Stored rows of a receipt in temporary tables, and the statements that put them back."""
