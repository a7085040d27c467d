"""The Bench: offset and gain."""
