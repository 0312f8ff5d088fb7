"""A resolver compared with what it ought to do: answer, recurse, reach the internal zones, and pass on what it got unchanged."""
