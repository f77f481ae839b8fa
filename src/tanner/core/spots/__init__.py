"""Retouch: spots that are healed, copied over or filled on the frame's own numbers, before everything else."""
