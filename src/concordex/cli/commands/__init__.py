"""One file a command: parse, call one function, draw what came back."""
