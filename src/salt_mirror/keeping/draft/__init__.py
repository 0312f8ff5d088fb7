"""A draft as files: the estate with where each line comes from, and what is registered as what is expected."""
