"""A snapshot, or a plan, compared with what is answered now."""
