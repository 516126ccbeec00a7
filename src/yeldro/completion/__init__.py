"""Completing a command line while it is typed. Nothing heavy is imported, so that it is quick."""
