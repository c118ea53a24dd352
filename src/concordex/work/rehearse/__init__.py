"""Rehearsing against a copy of a system."""
