"""The questions built from it: tables, expectations."""
