"""Plain values that every other room speaks in: names, tables, keys, steps, counts, errors.

Nothing here knows of a database or of SQL. Every module may be used from anywhere.
"""
