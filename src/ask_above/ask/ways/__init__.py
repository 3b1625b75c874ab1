"""Which change gives another answer."""
