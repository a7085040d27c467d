"""Why nothing on the shelf can even be compared with what is wanted, where a person would look for it there."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching import rulers
from grayshelf.core.matching.judge import Terms, not_the_same_sensor, tell
from grayshelf.core.matching.model import CommonSettings, Holding
from grayshelf.core.matching.stock import KINDS_FOR


def passed_over(kind: FrameKind, want: CommonSettings, holdings: Iterable[Holding], terms: Terms) -> str:
    """Of what is of the kind, the camera (and, for flats, the filter), why not even the newest is a candidate.

    Parameters
    ----------
    kind
        Of a line of a slip for which there is no candidate.

    Returns
    -------
    'the newest there: binning 2×2, not 1×1'; empty where there is none.
    """
    against = [
        (h.settings.night or date.min, reasons)
        for h in holdings
        if h.kind in KINDS_FOR.get(kind, (kind,))
        and h.settings.camera == want.camera
        and (kind is not FrameKind.FLAT or h.settings.filter_code == want.filter_code)
        and (reasons := _reasons(want, h.settings, terms, crops=kind in (FrameKind.DARK, FrameKind.FLAT)))
    ]
    if not against:
        return ""
    return f"the newest there: {'; '.join(max(against, key=lambda one: one[0])[1])}"


def _reasons(want: CommonSettings, have: CommonSettings, terms: Terms, *, crops: bool) -> list[str]:
    if want.binning and have.binning and want.binning != have.binning:
        # For that alone they are of another size.
        return [tell(rulers.exact("binning", want.binning, have.binning), terms)]
    return not_the_same_sensor(want, have, crops=crops)
