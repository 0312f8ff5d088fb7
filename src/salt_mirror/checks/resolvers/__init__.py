"""A resolver held against what it ought to do: answer, look up, reach the inside, and hand on what it got as it got it."""
