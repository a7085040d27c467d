"""Flat settings."""
