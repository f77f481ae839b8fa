"""Tanner develops a series of raw files consistently."""

__version__ = "0.1.0"
