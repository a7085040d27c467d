"""What lights wait for and nobody has made."""

from __future__ import annotations

from dataclasses import dataclass

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.match import gap_key, same_gap
from grayshelf.core.matching.model import CommonSettings, PullSlip, SlipLine, Verdict
from grayshelf.library.kept import kept
from grayshelf.library.left_out import sparing
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet
from grayshelf.library.rig_terms import tolerances_of
from grayshelf.library.slips import slips


@dataclass(frozen=True)
class Gap:
    """A master that some lights ask for and nobody has made."""

    key: tuple[object, ...]
    kind: FrameKind
    want: CommonSettings
    lights: int
    sets: tuple[LightSet, ...]
    care_only: bool
    """Something fits with care: the gap is a wish to renew, not a hole."""
    nearest: str
    """What came nearest and why it lost."""
    filters: tuple[str, ...] = ()
    """The filters of the lights, or of the flats whose dark flat it is."""

    @property
    def targets(self) -> tuple[str, ...]:
        """Targets that wait, in order."""
        return tuple(dict.fromkeys(s.facts.target or "no target" for s in self.sets))


@dataclass(frozen=True)
class _Waiting:
    """Lights that wait for a master."""

    lights: LightSet
    want: CommonSettings
    care_only: bool
    nearest: str


def gaps(library: Library, rig_id: int, *, with_care: bool = False) -> list[Gap]:
    """What lights wait for, the most waited for first; kept until the shelf changes.

    Parameters
    ----------
    with_care
        Also what fits with care only.
    """
    return _gaps(library, library.revision, rig_id, with_care)


@kept(16)
def _gaps(library: Library, revision: int, rig_id: int, with_care: bool) -> list[Gap]:
    with library.db.own_session() as session:
        tolerance_deg = tolerances_of(library.rig(session, rig_id)).flat_angle_deg
    found: dict[tuple[object, ...], list[list[_Waiting]]] = {}
    for lights, slip in slips(library, rig_id):
        with sparing(library, "gaps", lights.row.id, lights.row.kind):
            for line in slip.lines:
                waiting = _waiting(lights, slip, line, with_care)
                if waiting is None:
                    continue
                alike = found.setdefault(gap_key(line.kind, waiting.want), [])
                group = next(
                    (g for g in alike if same_gap(line.kind, g[0].want, waiting.want, tolerance_deg)), None
                )
                if group is None:
                    alike.append(group := [])
                group.append(waiting)
    result = []
    for key, groups in found.items():
        for number, group in enumerate(groups):
            sets = tuple(w.lights for w in group)
            result.append(
                Gap(
                    (*key, number),
                    FrameKind(str(key[0])),
                    group[-1].want,
                    sum(s.row.n_kept for s in sets),
                    sets,
                    care_only=all(w.care_only for w in group),
                    nearest=group[-1].nearest,
                    filters=tuple(dict.fromkeys(w.want.filter_code for w in group if w.want.filter_code)),
                )
            )
    return sorted(result, key=lambda g: (g.care_only, -g.lights, repr(g.key)))


def _waiting(lights: LightSet, slip: PullSlip, line: SlipLine, with_care: bool) -> _Waiting | None:
    """What lights wait for by one line of their slip; None where it is there."""
    hole = line.verdict is Verdict.NOTHING or line.scaled
    if line.waits_for is not None or line.kind is FrameKind.BIAS:
        return None
    if not hole and not (with_care and line.verdict is Verdict.CARE):
        return None
    if line.chosen is not None:
        nearest = "; ".join(line.chosen.reasons)
    elif not hole:
        nearest = line.note
    else:
        nearest = line.lost_on[0] if line.runners_up else "none on the shelf"
    want = _flat_of(slip) if line.kind is FrameKind.DARK_FLAT else lights.nominal
    return _Waiting(lights, want, not hole, nearest)


def _flat_of(slip: PullSlip) -> CommonSettings:
    """The settings of the flat whose dark flat is missing."""
    flat = next(line for line in slip.lines if line.kind is FrameKind.FLAT)
    assert flat.chosen is not None
    return flat.chosen.holding.settings
