"""Who gains and who loses what, where, by a change."""
