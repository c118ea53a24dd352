"""The filter language: text to tree, tree to Polars, tree to a system's own query."""
