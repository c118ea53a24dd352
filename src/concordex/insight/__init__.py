"""What is seen of a fleet: what stands in racks, what hangs on what.  No network, files, terminal or clock."""
