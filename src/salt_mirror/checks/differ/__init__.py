"""Two servers, or two addresses of one zone: what one answers and the other does not."""
