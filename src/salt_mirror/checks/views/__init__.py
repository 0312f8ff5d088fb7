"""One name in several views: equal, different as meant, missing in one, or leaked to another."""
