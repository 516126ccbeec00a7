"""A separate program that executes a query on an SQLite file and writes integers to its output.

Standard input is a JSON list: the file's URI, a size for SQLite's cache, and the query. Standard
output is native 64-bit integers, row after row. It imports no other module, so that it starts
quickly.
"""

import json
import sqlite3
import sys
from array import array
from itertools import chain

_ROWS_AT_ONCE = 10_000


def main() -> None:
    """Execute the query; fail with a traceback if that is not possible."""
    address, cache_size, query = json.load(sys.stdin)
    connection = sqlite3.connect(address, uri=True, isolation_level=None)
    connection.execute(f"PRAGMA cache_size = {int(cache_size)}")
    cursor = connection.execute(query)
    while rows := cursor.fetchmany(_ROWS_AT_ONCE):
        sys.stdout.buffer.write(array("q", chain.from_iterable(rows)).tobytes())


if __name__ == "__main__":
    main()
