"""The command line: each command parses, calls core and shows what came back."""
