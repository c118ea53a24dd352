"""What runs by itself: which job is due, one run of it, the process that waits for them, and others that may."""
