"""Preparing changes: from rows, edits, the concordance or lines; taking them back."""
