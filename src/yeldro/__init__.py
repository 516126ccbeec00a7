"""Yeldro plans and runs cleanup deletions in SQL databases.

The row count is the key that turns the lock: whoever removes rows says how many must go; if any
other number would go, from any table, nothing goes.
"""

__version__ = "0.1.0"
