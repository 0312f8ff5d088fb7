"""A resolver compared with what it ought to do: answer, recurse, reach internal zones, pass on what it got unchanged."""
