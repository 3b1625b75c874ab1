"""A rank, a member or a place in sentences."""
