"""Handing frames over: what would go, as a folder, a zip or a list, and what went before."""
