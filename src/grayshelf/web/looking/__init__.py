"""Looking at frames: tiles, levels, profiles, two held against each other."""
