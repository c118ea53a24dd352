"""`concordex.insight` by itself."""
