"""Rigs: the train drawn, its sheets, house rules and history."""
