"""Groups of equal rows: which row stays, by rules or as a person decides."""
