"""A frame of a camera that the library knows nothing of, found where its program writes: it tells how large its frames are."""

from __future__ import annotations

from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np

from grayshelf.core.errors import Conflict, UnreadableFrame
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.sensor.statistics import sample_step
from grayshelf.library.catalog import read_file
from grayshelf.library.files import read_pixels
from grayshelf.library.folders import walk_frames

#: Files that are looked at, the newest first: where none of these is of the camera, its frames do not come in here.
LOOKED_AT = 40


def frame_that_lies_in(folder: Path, camera: str) -> tuple[FrameFacts, int | None]:
    """What the newest raw frame of a camera in a folder tells, and the step between its levels, ADU (None: it does not say).

    A frame that names no camera counts as one of it: what comes in later is held against its size.

    Raises
    ------
    Conflict
        Where there is none; what is there instead is said.
    """
    others = set[str]()
    try:
        newest = sorted(walk_frames(folder), key=lambda file: (-file[1].modified_ns, file[0]))[:LOOKED_AT]
    except OSError:
        # Its disk is out: that is as good as nothing there.
        newest = []
    for name, _ in newest:
        # When it was taken is not asked, so any zone does.
        facts = read_file(folder / name, ZoneInfo("UTC")).facts
        if facts is None or facts.is_master:
            continue
        if facts.camera not in (None, camera):
            others.add(str(facts.camera))
            continue
        try:
            pixels = read_pixels(folder / name)
        except (UnreadableFrame, OSError):
            continue
        if pixels.dtype == np.uint16:
            return facts, sample_step(pixels)
    found = f" Those in it are of {', '.join(sorted(others))}." if others else ""
    raise Conflict(
        f"No frame of {camera} is known yet, so nobody can tell how large its frames are.{found}",
        f"Take one of any kind into {folder} with your program, then begin. If its headers call the camera by another name, "
        "describe a rig with that name on Rigs."
        if others
        else f"Take one of any kind into {folder} with your program, then begin.",
    )
