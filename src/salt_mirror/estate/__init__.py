"""The estate: zones, servers, resolvers, and the records that are expected in them, read from files."""
