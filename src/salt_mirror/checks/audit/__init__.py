"""All checks over the whole estate."""
