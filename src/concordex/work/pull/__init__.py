"""Pulling: complete tables, or parts of them; checking systems; what is kept, and for how long."""
