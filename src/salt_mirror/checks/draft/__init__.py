"""What there is, found out from a few names: zones, the servers that answer for them, and what is registered there."""
