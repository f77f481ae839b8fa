"""A lens measured from the user's own frames: straight edges, colour seams, an even surface."""
