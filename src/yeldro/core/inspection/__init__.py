"""Looking without a plan: a table's keys and references, its rows, what repeats, and orphans.

Each module answers one command. Nothing here is needed to remove or restore rows.
"""
