"""Slips for files and folders, as a script asks for them."""

from __future__ import annotations

from sqlalchemy import select

from grayshelf.core.matching.model import Verdict
from grayshelf.library.files_asked import lights_in
from grayshelf.library.library import Library
from grayshelf.library.models import FrameSet
from grayshelf.web.nights.schemas import MatchedOut, MatchOut
from grayshelf.web.nights.slip import slip_page

#: From the best to the worst.
_ORDER = (Verdict.FITS.value, Verdict.CARE.value, Verdict.NOTHING.value)


def match_files(library: Library, paths: list[str]) -> MatchOut:
    """The slips of the lights that these files are, or that lie in these folders, with the worst verdict of all."""
    asked = lights_in(library, paths)
    with library.db.session() as session:
        nights = (
            select(FrameSet.id, FrameSet.night).where(FrameSet.id.in_(asked.sets)).order_by(FrameSet.night)
        )
        matched = [
            MatchedOut(frames=asked.sets[set_id], night=night, slip=slip_page(library, set_id))
            for set_id, night in session.execute(nights.order_by(FrameSet.id))
        ]
    verdicts = [m.slip.verdict for m in matched]
    worst = max(verdicts, key=_ORDER.index) if verdicts else Verdict.NOTHING.value
    return MatchOut(
        verdict=Verdict.NOTHING.value if asked.not_known else worst,
        matched=matched,
        not_known=list(asked.not_known),
    )
