"""Reading tables: page by page, to an end that was proved."""
