"""Six prepared beginnings: charters to start from, in plain sentences, with the usual mistakes avoided."""
