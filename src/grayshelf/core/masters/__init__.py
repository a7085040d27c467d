"""Combining frames into masters."""
