"""What can be wrong with a frame, and how big it is."""
