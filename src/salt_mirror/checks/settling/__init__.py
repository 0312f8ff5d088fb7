"""A change followed until it has settled."""
