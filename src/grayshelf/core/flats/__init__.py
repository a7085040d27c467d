"""Finding exposures for flats."""
