"""Several frames made into one: a panorama, or a picture with all in focus."""
