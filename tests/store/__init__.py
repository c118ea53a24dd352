"""`concordex.store` by itself."""
