"""`concordex.model` by itself."""
