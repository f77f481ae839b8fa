"""One place for questions about frames: what an expression means, which frames it takes, and how many there are of what."""
