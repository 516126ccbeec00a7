"""How foreign keys are followed, and where the sets of rows that they lead to are kept."""
