"""What a plan does: its steps and counts, the chains that reach a row, and what is expected."""
