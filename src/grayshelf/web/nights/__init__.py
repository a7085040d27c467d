"""Nights, and their pull slips."""
