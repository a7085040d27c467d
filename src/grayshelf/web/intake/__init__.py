"""Intake: folders, sets, what to look at."""
