"""The command line: what is typed, and how things are drawn.  It decides nothing."""
