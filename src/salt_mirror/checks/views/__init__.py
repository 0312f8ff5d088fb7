"""One name in several views: the same, otherwise as meant, hidden from somebody, or leaking out."""
