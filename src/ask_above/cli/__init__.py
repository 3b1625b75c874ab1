"""The commands: read arguments, ask, show."""
