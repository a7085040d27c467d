"""What is not of one place: the library’s state, work, search."""
