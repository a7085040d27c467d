"""Run sheets: what to shoot, in which order, and how long it takes."""
