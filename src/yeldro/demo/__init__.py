"""A made-up network of sea buoys to try everything on."""
