"""Options into core objects, and core objects into text."""
