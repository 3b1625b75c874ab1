"""Which ranks give what somebody needs, and as little else as can be."""
