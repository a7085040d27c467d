"""The library: what is known of frames, in SQLite, and the frames and masters themselves, on disk."""
