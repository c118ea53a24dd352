"""What a record is: its fields, their types, and how what a system said becomes a value."""
