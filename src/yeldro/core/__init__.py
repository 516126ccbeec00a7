"""Tables, foreign keys, selections, plans, tallies and receipts.

Nothing here prints, asks or reads a command line. Database systems differ only behind
`yeldro.core.database.protocol`. Each package is a room with one subject, and a module imports only
from its own room and from those before it: model, database, selection, planning, receipts,
execution, restore; and inspection, which stands beside the last three.
"""
