"""One check from several vantages, put together."""
