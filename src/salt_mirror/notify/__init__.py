"""Messages to people and programs: each way of sending one is a module."""
