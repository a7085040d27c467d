"""Finding flat settings."""
