"""The simulated systems and the demo fleet of Saltmarsh Ferries, an invented ferry operator."""
