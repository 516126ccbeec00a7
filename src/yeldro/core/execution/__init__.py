"""Carrying out a plan: locks, stored rows, statements, counts, proofs, and the commit.

`run.run` and `batches.run_in_batches` are what the command line and programs call; `script` writes
the same statements down. Whatever differs from the plan is rolled back here.
"""
