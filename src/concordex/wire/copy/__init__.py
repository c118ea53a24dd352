"""A copy of a system: its records, answered for in the manner that its dialect tells."""
