"""The command line: options become core objects, and core objects become output."""
