"""What a careful administrator would look at again: each module looks at one side of a community."""
