"""What can be put on the end of a run, in words."""

from __future__ import annotations

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.sheet import RigPace, series_seconds
from grayshelf.web.common import in_words
from grayshelf.web.tonight.schemas import MoreOut
from grayshelf.work.run.fill_offers import FillOffer


def more_out(offer: FillOffer, pace: RigPace, word: str) -> MoreOut:
    """A series with what it is good for, and what as many as are usual take."""
    series = offer.series
    frames = max((c.frames for c in offer.fillable.counts), default=series.n_frames)
    at = "" if series.set_temp_c is None else f" at {in_words.degrees_c(series.set_temp_c)}"
    what = "Bias" if series.kind is FrameKind.BIAS else f"Dark {in_words.seconds(series.exposure_s)}{at}"
    takes = in_words.duration(series_seconds(frames, series.exposure_s, pace))
    return MoreOut(
        key=offer.fillable.key,
        title=f"{what}, {word} {series.gain:g}",
        why=offer.why,
        frames=frames,
        text=f"{in_words.several(frames, 'frame')}, {takes}",
    )
