"""SQL of another system: carried over exactly, or refused with its place. There is no third way."""
