"""`concordex.wire` by itself."""
