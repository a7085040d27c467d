"""Two cameras of one name, as on two telescopes side by side: what shows that there are two, and which took a frame.

Headers name the make of a camera, not the piece. But no camera exposes twice at a time: where frames of two telescopes
were, there are two, and the dark of one has not the hot pixels of the other.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta

from grayshelf.core.matching import rulers
from grayshelf.core.matching.model import CommonSettings, Ruler

#: The name of the ruler.
CAMERA = "camera"
#: Fewer frames at once than this may be a clock that was set in between. Common practice, no source.
LEAST_AT_ONCE = 3
#: Clocks of two computers are no nearer than this.
CLOCKS_APART = timedelta(seconds=5)
WARNING = (
    "Frames of two telescopes were exposed at once, so two cameras have this name: darks, dark flats and bias serve the "
    "telescope alone that their headers name."
)


def exposed_at_once(one: Sequence[tuple[datetime, float]], other: Sequence[tuple[datetime, float]]) -> int:
    """How many frames of one telescope were exposed while another of the same camera's name was.

    Parameters
    ----------
    one, other
        When each frame was begun, UTC, and how long it was exposed, s.
    """
    theirs, at, found = sorted(other), 0, 0
    for begun, exposure_s in sorted(one):
        ended = begun + timedelta(seconds=exposure_s) - CLOCKS_APART
        while at < len(theirs) and _end(theirs[at]) <= begun:
            at += 1
        found += at < len(theirs) and theirs[at][0] < ended
    return found


def _end(frame: tuple[datetime, float]) -> datetime:
    return frame[0] + timedelta(seconds=frame[1]) - CLOCKS_APART


def may_be_of(own: str | None, telescope: str | None) -> bool:
    """Whether frames that name this telescope may be of the camera that its `own` tells from others of its name (a plain name;
    none where there is one camera of the name)."""
    return own is None or telescope is None or rulers.plain_name(telescope) == own


def which_camera(want: CommonSettings, have: CommonSettings, *, several: bool) -> list[Ruler]:
    """Of several cameras of one name: whether frames are of the one that is wanted, by the telescope on which it is."""
    return [rulers.same_name(CAMERA, want.telescope, have.telescope)] if several else []
