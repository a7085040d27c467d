"""Attacks on a running library, with figures: kills, full disks, vanishing folders, damaged headers, odd requests, crowds."""
