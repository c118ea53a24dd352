"""A dialect drafted from what was seen of an API: what is sure, what is not, and why."""
