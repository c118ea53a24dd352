"""What can be written to: as it stands now, and what it can do."""
