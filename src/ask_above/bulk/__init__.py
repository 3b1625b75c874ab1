"""The rules for everyone everywhere, in arrays: the table, and two communities side by side."""
