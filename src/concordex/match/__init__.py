"""Which records are the same device, what each entry says, and what a person should look at."""
