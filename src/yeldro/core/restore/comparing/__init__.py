"""Stored rows held against the database: what is back, what is missing, what is in the way."""
