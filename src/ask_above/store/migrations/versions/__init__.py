"""One module for each version."""
