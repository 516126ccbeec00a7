"""The one way in which users' rows change: guarded, stored, carried out, counted, committed.

Whatever is to be done to rows, by a run, a batch, a rehearsal or a restore, is a `ChangeSet`, and a
`Transaction` alone carries it out. Nothing else executes a statement that changes users' rows.
"""
