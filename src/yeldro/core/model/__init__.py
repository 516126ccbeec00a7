"""Plain values that every other room speaks in.

Nothing here knows of a database or of SQL. Every module may be used from anywhere.
"""
