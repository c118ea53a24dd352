"""`concordex.standins` by itself."""
