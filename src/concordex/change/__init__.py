"""Changes: two states compared, ordered steps prepared.  No network, no files."""
