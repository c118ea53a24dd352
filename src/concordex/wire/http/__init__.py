"""HTTP with one system: connections, signing in, answers and their formats."""
