"""One truth: reconciling, rulings, what speaks for it, and what became of it."""
