"""The shelf: its walls and cards."""
