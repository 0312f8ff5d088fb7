"""Mail exchangers, down to addresses that a sender can connect to."""
