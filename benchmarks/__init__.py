"""Yeldro against the best hand-written SQL, as whole processes: `python -m benchmarks --help`."""
