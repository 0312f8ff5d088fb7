"""How long a change can take until everybody has it."""
