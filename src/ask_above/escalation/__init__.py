"""How far a rank can climb: the bound, the moves, the paths played through, what cuts them."""
