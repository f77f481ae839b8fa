"""Making camera profiles from a shot of a colour chart."""
