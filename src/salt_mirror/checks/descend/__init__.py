"""From the root down every cut to a name."""
