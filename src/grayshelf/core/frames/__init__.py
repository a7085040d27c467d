"""What a frame is: its kind, its settings, its night, and the set it belongs to."""
