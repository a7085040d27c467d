"""Run all measurements, or those named."""

import sys

from bench import (
    building,
    checks,
    combining,
    coverage,
    devices,
    disks,
    fetching,
    filling,
    looking,
    names,
    night,
    pages,
    phones,
    scale,
    solver,
    statistics,
    transactions,
)

PARTS = {
    "statistics": statistics,
    "solver": solver,
    "checks": checks,
    "looking": looking,
    "combining": combining,
    "building": building,
    "coverage": coverage,
    "devices": devices,
    "disks": disks,
    "fetching": fetching,
    "filling": filling,
    "names": names,
    "night": night,
    "transactions": transactions,
    "pages": pages,
    "phones": phones,
    "scale": scale,
}

for name in sys.argv[1:] or PARTS:
    print(f"\n== {name}")
    PARTS[name].main()
