"""`concordex.work` by itself."""
