"""Files in and out: the charter and its add-ons, the register as CSV."""
