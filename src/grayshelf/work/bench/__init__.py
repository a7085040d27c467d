"""Measuring cameras."""
