"""What is said to the user: errors, names and options in messages, progress, and what is settled.

With it comes the machine that it is said on: its files, its user. Nothing here knows of a table.
"""
