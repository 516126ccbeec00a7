"""Putting back what a receipt holds, and undoing that again.

`restore.compare` tells what is back and what conflicts, and `restore.restore` puts the rest back in
one transaction. Before its commit `comparing.verification` compares every row with the receipt.
Stored rows and the statements on them are in `staged`, how they are compared in `comparing`.
"""
