"""Carrying out a plan: locks, stored rows, statements, counts, proofs, and the commit.

`run.run` and `batches.run_in_batches` are what the command line and programs call; `script` writes
the same statements down. What does not agree with the plan is rolled back here.
"""
