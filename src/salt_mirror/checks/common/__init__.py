"""What several checks share: where to ask, what was answered, what is expected, how it is said."""
