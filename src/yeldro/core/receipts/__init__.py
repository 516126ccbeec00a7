"""Files that hold what a run removed and changed: written, read, copied and exported.

`reader` reads a receipt without a database and without the libraries for one. `writer` and
`batch_writer` hear of every step from the room that carries it out.
"""
