"""What an administrator writes: the catalogue, the ladder, places and overrides, rules, as plain objects."""
