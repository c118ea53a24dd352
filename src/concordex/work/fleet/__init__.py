"""What is seen of a fleet in the tables that were pulled: racks, links."""
