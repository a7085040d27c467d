"""How often each fault of a set is found by name, and how often one is named that is not there."""

from __future__ import annotations

import time
from collections import Counter
from itertools import combinations

from tests.reference.faulty_sets import darks, flats, found_in
from tests.reference.test_set_checks import CAPPED, LIT

from grayshelf.core.frames.kinds import FrameKind

SEEDS = 30
#: A frame in another filter has another level, too.
NOT_TOGETHER = ({"wrong filter", "wrong level"},)
#: The sky changes by nature: its levels are no faults.
OF_THE_SKY = ("panel drift", "wrong level", "unsettled first frames")


def main() -> None:
    """Count over 30 seeds of each fault, and of none."""
    others, began, looked = Counter[str](), time.perf_counter(), 0
    for make, kind, faults in ((flats, FrameKind.FLAT, LIT), (darks, FrameKind.DARK, CAPPED)):
        for fault in ("", *faults):
            named = 0
            for seed in range(SEEDS):
                frames, _ = make(seed, fault)
                looked += len(frames)
                found = {
                    f.fault.value
                    for f in found_in(frames, kind, of_sky=kind is FrameKind.FLAT and fault in ("", "stars"))[
                        0
                    ]
                }
                named += fault in found
                others.update(found - {fault})
            if fault:
                print(f"{make.__name__:6} {fault:24} found in {named} of {SEEDS}")
    for make, kind, faults in ((flats, FrameKind.FLAT, LIT), (darks, FrameKind.DARK, CAPPED)):
        for pair in combinations(faults, 2):
            if set(pair) in NOT_TOGETHER or (
                "stars" in pair and kind is FrameKind.FLAT and pair[0] in OF_THE_SKY
            ):
                continue
            both = sum(
                set(pair)
                == {f.fault.value for f in found_in(make(seed, *pair)[0], kind, of_sky="stars" in pair)[0]}
                for seed in range(SEEDS // 6)
            )
            print(
                f"{make.__name__:6} {' and '.join(pair):48} both, and nothing else, in {both} of {SEEDS // 6}"
            )
    n = SEEDS * (len(LIT) + len(CAPPED) + 2)
    print(f"named though not there: {sum(others.values())} in {n} sets {dict(others) or ''}")
    print(f"{looked} frames of 77,000 pixels made and looked at in {time.perf_counter() - began:.0f} s")
