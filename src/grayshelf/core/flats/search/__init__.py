"""The search for a flat’s setting: what it sets out with, what comes next, and how it says no."""
