"""What the numbers of a sensor say: levels, spread, sample scaling."""
