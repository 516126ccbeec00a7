"""Stand-ins for database systems that Yeldro cannot be tried on where it is built.

A stand-in refuses what the documentation of its system says that the system refuses.
"""
