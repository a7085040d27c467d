"""Gray Shelf: build and keep a library of calibration frames for deep-sky imaging."""

__version__ = "0.1.0"
