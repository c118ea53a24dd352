"""The dialects that ship with the program, and the JSON Schema of their format."""
