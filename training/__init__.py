"""Trains the network for noise (`make network`). Not part of the application: PyTorch is needed here only."""
