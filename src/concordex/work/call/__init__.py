"""Single calls to a system: made of what a person types, sent once, and kept without secrets."""
