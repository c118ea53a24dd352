"""Upkeep of an installation and a workspace: what is wrong with it, and copies of it that can be brought back."""
