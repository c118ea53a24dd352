"""Writing records: in the way that a dialect declares."""
