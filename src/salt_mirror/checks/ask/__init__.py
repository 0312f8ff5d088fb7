"""One name asked at every server that matters: who answered, and what that means."""
