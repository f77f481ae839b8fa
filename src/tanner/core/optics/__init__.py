"""Lens, crop, and the one resampling."""
