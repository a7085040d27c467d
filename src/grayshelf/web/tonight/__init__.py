"""Tonight: the sheet, and its run."""
