"""The signatures of a zone: whether validating resolvers take what each server says, and for how long they will."""
