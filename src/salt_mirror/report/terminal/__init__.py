"""Reports on a terminal, or as plain text in a pipe."""
