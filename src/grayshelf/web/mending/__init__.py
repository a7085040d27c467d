"""Mend: saying what headers lack or have wrong."""
