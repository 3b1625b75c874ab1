"""Edits of charter and register, as plans: checked against the rules, told by what they do."""
