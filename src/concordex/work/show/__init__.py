"""Looking at tables, systems and dialects; nothing is written."""
