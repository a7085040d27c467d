"""Flats of the twilight sky."""
