"""The demo: Gullmarsh Saltworks on loopback, with planted faults, and a tour of the commands."""
