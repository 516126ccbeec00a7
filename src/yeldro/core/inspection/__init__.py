"""Looking without a plan: a table's keys and references, its rows, repetitions, and orphans.

Each module serves one command. Nothing here is needed to remove or restore rows.
"""
