"""What was done, held against what was allowed then."""
