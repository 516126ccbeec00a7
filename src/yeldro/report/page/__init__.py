"""A page about a plan, a run or a receipt, to be handed to somebody: one file, no network."""
