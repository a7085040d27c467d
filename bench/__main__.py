"""Run all measurements, or those named."""

import argparse

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

asked = argparse.ArgumentParser(prog="python -m bench", description=__doc__)
known = f"one of {', '.join(PARTS)}; all where none is named"
asked.add_argument("part", metavar="PART", nargs="*", choices=[*PARTS, []], help=known)
for name in asked.parse_args().part or PARTS:
    print(f"\n== {name}")
    PARTS[name].main()
