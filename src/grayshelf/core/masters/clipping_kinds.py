"""How the spread of a pixel's samples is known, by which outliers are told: numbers that compiled code can compare."""

POOLED, STD, MAD, NO_CLIPPING = 0, 1, 2, 3
