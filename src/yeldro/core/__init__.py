"""Tables, foreign keys, selections, plans, tallies and receipts.

Nothing here prints, asks or reads a command line. Database systems differ only behind
`yeldro.core.protocol`.
"""
