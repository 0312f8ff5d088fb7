"""The traffic with servers: sockets, waits, fallbacks. Its door is `Engine`."""
