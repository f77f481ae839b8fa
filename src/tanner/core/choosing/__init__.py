"""What helps to choose among near-alikes: measured, never deciding."""
