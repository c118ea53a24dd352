"""Telling people: what is worth it, in which words, by which way, and when."""
