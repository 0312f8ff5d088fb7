"""What is written to be read again."""
