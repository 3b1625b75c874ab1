"""The demo community: Wren Valley River Watch."""
