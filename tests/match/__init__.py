"""`concordex.match` by itself."""
