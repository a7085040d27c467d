"""Flats of the twilight sky: the sun, how much light to expect, and what to shoot when."""
