"""What the shelf holds already for tonight’s lights."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from grayshelf.core.digits import seconds
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.sets import nominal_exposure
from grayshelf.core.matching.model import Ruler, Verdict
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet
from grayshelf.library.models import Rig
from grayshelf.library.rig_terms import gain_word
from grayshelf.library.slips import slips


@dataclass(frozen=True)
class Covered:
    """Lights of tonight that the shelf serves already."""

    kind: FrameKind
    holding_id: int
    title: str
    lights: int
    verdict: Verdict
    ruler: Ruler | None


def covered_by_shelf(library: Library, rig: Rig, lights: Sequence[LightSet]) -> list[Covered]:
    """What the shelf holds already for tonight's lights."""
    ids = {s.row.id for s in lights}
    found: dict[tuple[FrameKind, str], Covered] = {}
    for light_set, slip in slips(library, rig.id):
        if light_set.row.id not in ids:
            continue
        for line in slip.lines:
            if line.chosen is None or line.verdict is not Verdict.FITS or line.kind is FrameKind.DARK_FLAT:
                continue
            have = line.chosen.holding.settings
            quantity = "temperature" if line.kind is FrameKind.DARK else "angle"
            ruler = next((r for r in line.chosen.rulers if r.quantity == quantity), None)
            title = line.kind.value.capitalize()
            if line.kind is FrameKind.DARK:
                long = [] if have.exposure_s is None else [seconds(nominal_exposure(have.exposure_s))]
                gain = [] if have.gain is None else [f"{gain_word(library, rig.camera)} {have.gain:g}"]
                title = f"Dark {', '.join([*long, *gain])}".strip()
            elif have.filter_code:
                title = f"Flat {have.filter_code}"
            key = (line.kind, line.chosen.holding.key)
            before = found.get(key)
            count = light_set.row.n_kept + (before.lights if before else 0)
            found[key] = Covered(line.kind, int(line.chosen.holding.key), title, count, line.verdict, ruler)
    return sorted(found.values(), key=lambda c: (c.kind.value, -c.lights))
