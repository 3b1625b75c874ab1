"""Advice: each module looks at one side of a community."""
