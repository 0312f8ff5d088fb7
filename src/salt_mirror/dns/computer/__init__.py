"""What a computer is set to for looking up names: one interface, and a reader for each system."""
