"""What can be put on the end of a run, in words."""

from __future__ import annotations

from grayshelf.core.flats.filter_words import through
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.model import RigSays
from grayshelf.core.planning.sheet import RigPace, RunSheet, StepKind, series_seconds
from grayshelf.web.common import in_words
from grayshelf.web.tonight.schemas import MoreOut
from grayshelf.work.run.fill_offers import FillOffer
from grayshelf.work.run.flat_offers import RowOffer
from grayshelf.work.run.more import More


def more_out(more: More, word: str, says: RigSays) -> list[MoreOut]:
    """Each series with what it is good for, and what as many as are usual take."""
    flats = [_flats(offer, sheet, word, says) for offer, sheet in more.flats]
    return [*flats, *(_capped(offer, more.pace, word, says) for offer in more.capped)]


def _flats(offer: RowOffer, sheet: RunSheet, word: str, says: RigSays) -> MoreOut:
    wish = offer.wish
    takes = sum(step.seconds for step in sheet.steps if step.kind is not StepKind.BUILD)
    dark_flats = " with dark flats" if wish.n_dark_flats else ""
    hands = "you are needed" if any(step.needs_person for step in sheet.steps) else "nobody is needed"
    return MoreOut(
        key=offer.key,
        group="Flats",
        title=f"Flats{through(wish.filter_code)}{in_words.at_gain(word, says, wish.gain)}",
        why=offer.note,
        frames=wish.n_flats,
        text=f"{wish.n_flats}{dark_flats}, {in_words.duration(takes)}, {hands}",
    )


def _capped(offer: FillOffer, pace: RigPace, word: str, says: RigSays) -> MoreOut:
    """A series with what it is good for, and what as many as are usual take."""
    series = offer.series
    frames = max((c.frames for c in offer.fillable.counts), default=series.n_frames)
    at = "" if series.set_temp_c is None else f" at {in_words.degrees_c(series.set_temp_c)}"
    what = "Bias" if series.kind is FrameKind.BIAS else f"Dark {in_words.seconds(series.exposure_s)}{at}"
    takes = in_words.duration(series_seconds(frames, series.exposure_s, pace))
    return MoreOut(
        key=offer.fillable.key,
        group="Darks and bias",
        title=f"{what}{in_words.at_gain(word, says, series.gain)}",
        why=offer.why,
        frames=frames,
        text=f"{in_words.several(frames, 'frame')}, {takes}",
    )
