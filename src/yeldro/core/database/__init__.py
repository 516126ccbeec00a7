"""What an engine must provide, and the parts of SQL statements that are made from it.

`protocol` declares the catalogue, the session and the database; `sql`, `identity`, `catalogue` and
`references` build expressions and find tables for the rooms above. Engines use this room and
`model`, and nothing else of the core.
"""
