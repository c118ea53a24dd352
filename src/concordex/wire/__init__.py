"""Talking HTTP: dialects, sessions, signing in, paging, reading tables and writing records."""
