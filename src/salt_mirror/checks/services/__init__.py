"""Service locators and directories, down to hosts that a client can connect to."""
