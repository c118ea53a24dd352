"""`concordex.query` by itself."""
