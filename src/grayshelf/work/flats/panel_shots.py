"""What the shots of a measurement tell of a panel, while it goes on and at its end."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from sqlalchemy.orm import Session

from grayshelf.core.flats.panel.diffusers import stops_of
from grayshelf.core.flats.panel.ladder import rates
from grayshelf.core.flats.panel.response import ResponsePoint
from grayshelf.core.flats.search.outset import path_of
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.library.models import Rig, RunStep
from grayshelf.library.records import read
from grayshelf.library.step_records import SearchParams
from grayshelf.work.flats.conditions import RowConditions, as_test_shot


@dataclass(frozen=True)
class PanelShots:
    """Rates without diffusers, and from how many shots."""

    source_id: int | None
    points: list[ResponsePoint]
    n_shots: int

    @property
    def makes_a_curve(self) -> bool:
        """Whether anything of the panel's shape can be told from it."""
        return len({p.brightness for p in self.points}) > 1


def panel_shots(
    library: Library,
    session: Session,
    rig: Rig,
    devices: RigDevices | None,
    steps: Sequence[RunStep],
    white_adu: int | None = None,
) -> PanelShots:
    """What the steps of a measurement of the panel have seen so far."""
    points: list[ResponsePoint] = []
    n_shots, source_id = 0, None
    for step in steps:
        if step.kind not in ("ladder", "factor"):
            continue
        params = read(SearchParams, step.params)
        key = params.key
        row = RowConditions(library, session, rig, devices, key, white_adu)
        source_id = source_id or row.source.id
        seen = [as_test_shot(s) for s in step.shots]
        n_shots += len(seen)
        lifted = 2.0 ** stops_of(params.stack, row.source.diffusers)
        points += [
            replace(p, rate=p.rate * lifted) for p in rates(seen, row.target, row.pedestal, path_of(key))
        ]
    return PanelShots(source_id, points, n_shots)
