"""The demo: an invented scenario, its frames made by the model, its library kept apart from anybody's own."""
