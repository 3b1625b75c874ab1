"""A community's folder and its database, read and changed as one: plans, undoing, what was edited by hand."""
