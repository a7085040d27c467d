"""What could be measured of a camera from its frames on disk."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any, NamedTuple

from sqlalchemy import or_, select
from sqlalchemy.orm import Session

from grayshelf.core.matching.cameras_alike import may_be_of
from grayshelf.library.cameras_alike import tells_apart
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import FrameSet, Measurement, Rig


@dataclass(frozen=True)
class DiskOffer:
    """Raw frames of a camera at one gain that could be measured."""

    gain: float
    offsets: tuple[float, ...]
    n_bias: int
    n_flats: int
    levels: int
    """Different exposures or filters among the flats."""
    nights: tuple[date | None, ...]
    set_ids: tuple[int, ...]


class _RawSet(NamedTuple):
    """A raw set as far as it is asked for: a library of years has thousands."""

    id: int
    kind: str
    facts: dict[str, Any]
    n_kept: int
    night: date | None


def _raw_sets(session: Session, camera: str, kinds: Sequence[str]) -> list[_RawSet]:
    found = session.execute(
        select(FrameSet.id, FrameSet.kind, FrameSet.facts, FrameSet.n_kept, FrameSet.night)
        .where(
            FrameSet.camera == camera,
            FrameSet.kind.in_(kinds),
            FrameSet.is_master.is_(False),
            FrameSet.n_kept >= 2,
            # What was shot for a measurement was measured already.
            or_(
                FrameSet.measurement_id.is_(None),
                FrameSet.measurement_id.in_(select(Measurement.id).where(Measurement.source == "disk")),
            ),
        )
        .order_by(FrameSet.id)
    )
    return [_RawSet(*row) for row in found if facts_if_sound(row.facts) is not None]


def offers(session: Session, camera: str, kind: str, own: str | None = None) -> list[DiskOffer]:
    """What could be measured of a camera from its frames on disk, by gain.

    Parameters
    ----------
    kind
        'offset' wants bias frames; 'gain' wants flats and bias frames of one offset, or of a camera whose frames tell neither.
    own
        Of several cameras of one name: the telescope that tells this one (`tells_apart`).
    """
    of_the_name = _raw_sets(session, camera, ("bias",) if kind == "offset" else ("bias", "flat"))
    rows = [row for row in of_the_name if may_be_of(own, row.facts.get("telescope"))]
    # What none of them tells is one, and is told by no dial: 0 stands for it.
    asked = [
        q for q in ("gain", "offset") if kind == "offset" or any(row.facts.get(q) is not None for row in rows)
    ]
    by_gain: dict[float, list[_RawSet]] = {}
    for row in rows:
        if all(row.facts.get(q) is not None for q in asked):
            by_gain.setdefault(float(row.facts.get("gain") or 0.0), []).append(row)
    offered = (_offer(gain, of_gain) for gain, of_gain in sorted(by_gain.items()))
    return [o for o in offered if o.n_bias and (kind == "offset" or o.n_flats)]


def _offer(gain: float, rows: Sequence[_RawSet]) -> DiskOffer:
    bias = [r for r in rows if r.kind == "bias"]
    flats = [r for r in rows if r.kind == "flat"]
    return DiskOffer(
        gain,
        tuple(sorted({float(o) for r in bias if (o := r.facts.get("offset")) is not None})),
        sum(r.n_kept for r in bias),
        sum(r.n_kept for r in flats),
        len({(r.facts.get("filter_code"), r.facts.get("exposure_s")) for r in flats}),
        tuple(sorted({r.night for r in rows if r.night}, reverse=True)),
        tuple(r.id for r in rows),
    )


def offers_of(library: Library, rig: Rig, kind: str) -> list[DiskOffer]:
    """The same of a rig's camera, kept until the library changes."""
    own = tells_apart(library, rig.camera, rig.telescope)
    return _offers(library, library.revision, rig.camera, kind, own)


@kept(8)
def _offers(library: Library, _revision: int, camera: str, kind: str, own: str | None) -> list[DiskOffer]:
    with library.db.own_session() as session:
        return offers(session, camera, kind, own)
