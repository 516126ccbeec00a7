"""Which rows are meant: filters, views, groups of duplicates, and checks.

`selection.Selection` says what was asked for, and `selection.resolve` turns it into rows of one
table. Whatever a person typed in SQL is read by `filters` alone.
"""
