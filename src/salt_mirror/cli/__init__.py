"""The command line: one module a command. Parses, calls, prints, sets the exit status."""
