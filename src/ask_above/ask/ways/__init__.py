"""Which change would turn an answer."""
