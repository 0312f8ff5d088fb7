"""A change followed until every server and cache has it."""
