"""From one Gray Shelf to another: what this one gives, and what it fetches."""
