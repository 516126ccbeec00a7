"""Core objects as text and as JSON."""
