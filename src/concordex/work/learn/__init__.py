"""Learning how a system wants to be asked, from what its own console asks."""
