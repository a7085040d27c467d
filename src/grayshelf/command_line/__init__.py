"""The command line: asking a library what its pages would tell."""
