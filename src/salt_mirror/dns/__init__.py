"""How to put many questions to many servers and read what comes back. Knows no check, no estate and no interface."""
