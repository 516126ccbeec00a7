"""What a removal would do: the ripple along foreign keys, the order of steps, and their counts.

`plan.prepare` plans one cleanup in an open session, and `job.Job` holds several. Nothing here
changes a table of the user's.
"""
