"""A library of years: 200,000 frames of two cameras in 4,500 sets, 900 masters, written straight into a database.

Only rows and tiny files are made, no pictures; what the application makes of them is what is measured.
"""

from __future__ import annotations

import hashlib
import random
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, time, timedelta
from pathlib import Path
from typing import Any

from sqlalchemy import insert

from grayshelf.core.frames.angle import CameraAngle
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.sets import common_facts
from grayshelf.library.catalog import key_of
from grayshelf.library.facts_json import facts_to_json
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame, FrameSet, MasterRecord
from grayshelf.library.trains import make_rigs

FIRST_NIGHT = date(2020, 1, 2)
CAMERAS = (
    ("Camera M", 9576, 6388, ("Refractor 80", "Newtonian 200"), ("L", "R", "G", "B", "Ha", "OIII", "SII")),
    ("Camera C", 6248, 4176, ("Astrograph 60",), (None,)),
)
GAINS = (0.0, 100.0, 200.0)
EXPOSURES = (30.0, 60.0, 120.0, 180.0, 300.0, 600.0)
TEMPERATURES = (-20.0, -10.0, -5.0, 0.0)


@dataclass(frozen=True)
class MadeSet:
    """A set to be written: what all its frames say, and how many there are."""

    facts: FrameFacts
    count: int
    combined: bool = False
    """Whether a master was made of it."""


def _sets(share: float, seed: int = 11) -> Iterator[MadeSet]:
    rng = random.Random(seed)
    nights = [FIRST_NIGHT + timedelta(days=3 * i) for i in range(int(800 * share))]
    for number, night in enumerate(nights):
        camera = CAMERAS[0 if number % 4 else 1]
        telescope = rng.choice(camera[3])
        plain = _plain(camera, night)
        train = replace(plain, telescope=telescope, focal_length_mm=480.0 if "80" in telescope else 1000.0)
        angle = CameraAngle(round(rng.choice((12.0, 45.0, 98.0)) + rng.gauss(0, 0.1), 2), "mechanical")
        gain, temp = rng.choice(GAINS), rng.choice(TEMPERATURES)
        codes = rng.sample(camera[4], min(3, len(camera[4])))
        for code in codes:
            lit = replace(train, filter_code=code, gain=gain, angle=angle, focus=5000.0 + rng.gauss(0, 60))
            lights = replace(lit, kind=FrameKind.LIGHT, target=f"Target {number % 60}", set_temp_c=temp)
            exposure = rng.choice(EXPOSURES[2:])
            yield MadeSet(replace(lights, exposure_s=exposure, sensor_temp_c=temp + 0.1), 80)
            if rng.random() < 0.65:
                flat = replace(
                    lit, kind=FrameKind.FLAT, exposure_s=round(rng.uniform(0.5, 6.0), 2), sensor_temp_c=temp
                )
                combined = rng.random() < 0.45
                yield MadeSet(flat, 20, combined)
                if rng.random() < 0.35:
                    dark_flat = replace(
                        plain, kind=FrameKind.DARK_FLAT, gain=gain, exposure_s=flat.exposure_s
                    )
                    yield MadeSet(replace(dark_flat, sensor_temp_c=temp, set_temp_c=temp), 20, combined)
    for number in range(int(320 * share)):
        camera = CAMERAS[0 if number % 4 else 1]
        plain = replace(_plain(camera, nights[(number * 7) % len(nights)]), gain=rng.choice(GAINS))
        if number % 6 == 0:
            yield MadeSet(replace(plain, kind=FrameKind.BIAS, exposure_s=0.0), 50, True)
        else:
            temp = rng.choice(TEMPERATURES)
            dark = replace(plain, kind=FrameKind.DARK, exposure_s=rng.choice(EXPOSURES), set_temp_c=temp)
            yield MadeSet(replace(dark, sensor_temp_c=temp + rng.gauss(0, 0.1)), 40, rng.random() < 0.8)


def _plain(camera: tuple[Any, ...], night: date) -> FrameFacts:
    name, width, height, _, codes = camera
    facts = FrameFacts(width, height, 16, camera=name, binning_x=1, binning_y=1, offset=50.0, night=night)
    phase = "RGGB" if codes == (None,) else None
    return replace(
        facts, bayer_pattern=phase, electrons_per_adu=0.8, pixel_um=3.76, night_from="", gain=100.0
    )


def _folder_of(facts: FrameFacts) -> str:
    return f"{facts.night}/{facts.kind}/{facts.filter_code or 'none'}"


def fill(library: Library, folder: Path, share: float = 1.0) -> dict[str, int]:
    """Write a library of years into an empty one; how many frames, sets and masters it has.

    Parameters
    ----------
    folder
        Where the frames' tiny files are put: what a scan of an unchanged tree looks at.
    share
        Of the whole size.
    """
    counts = {"frames": 0, "sets": 0, "masters": 0}
    with library.db.session() as session:
        named = Folder(
            path=str(folder), own=False, added_at=library.clock.now(), scanned_at=library.clock.now()
        )
        session.add(named)
        session.flush()
        folder_id, own_id = named.id, library.own_folder_id(session)
    for start in _chunks(list(_sets(share)), 100):
        with library.db.session() as session:
            for made in start:
                set_id = _write(session, folder_id, folder, made, counts)
                if made.combined:
                    master = replace(made.facts, is_master=True, n_combined=made.count)
                    where = library.root
                    master_id = _write(session, own_id, where, MadeSet(master, 1), counts)
                    # Looked at when it was built, so that no scan goes to look for its file.
                    looked_at = {"list": [], "findings": []}
                    session.add(
                        MasterRecord(
                            set_id=master_id, built_here=True, method="mean", noise=1.0, figures=looked_at
                        )
                    )
                    session.get_one(FrameSet, set_id).master_set_id = master_id
                    counts["masters"] += 1
    with library.db.session() as session:
        make_rigs(session)
    return counts


def _chunks(items: list[MadeSet], size: int) -> Iterator[list[MadeSet]]:
    for i in range(0, len(items), size):
        yield items[i : i + size]


def _write(session: Any, folder_id: int, folder: Path, made: MadeSet, counts: dict[str, int]) -> int:
    begun = datetime.combine(made.facts.night or FIRST_NIGHT, time(20), UTC) + timedelta(
        minutes=counts["sets"] % 240
    )
    step = timedelta(seconds=(made.facts.exposure_s or 0.0) + 2)
    times = [begun + i * step for i in range(made.count)]
    common = replace(common_facts([made.facts]), utc=times[-1])
    row = FrameSet(
        kind=str(made.facts.kind),
        camera=made.facts.camera,
        night=made.facts.night,
        is_master=made.facts.is_master,
        n_frames=made.facts.n_combined or made.count,
        n_kept=made.count,
        facts=facts_to_json(common),
        sample_step=4,
        level_adu=20_000.0 if made.facts.kind is FrameKind.FLAT else 900.0,
        noise_adu=12.0,
        first_utc=times[0],
        last_utc=times[-1],
    )
    session.add(row)
    session.flush()
    below = folder / ("masters" if made.facts.is_master else "") / _folder_of(made.facts)
    below.mkdir(parents=True, exist_ok=True)
    facts, key = facts_to_json(made.facts), key_of(made.facts)
    frames = []
    for utc in times:
        counts["frames"] += 1
        path = below / f"{counts['frames']:06d}.fits"
        path.write_bytes(b" ")
        stat = path.stat()
        frames.append(
            {
                "folder_id": folder_id,
                "path": path.relative_to(folder).as_posix(),
                "size_bytes": stat.st_size,
                "modified_ns": stat.st_mtime_ns,
                "state": "good",
                "reason": "",
                "advice": "",
                "kind": str(made.facts.kind),
                "camera": made.facts.camera,
                "utc": utc,
                "night": made.facts.night,
                "rejected": False,
                "facts": {**facts, "utc": utc.isoformat()},
                "group_key": key,
                "set_id": row.id,
                "sha256": hashlib.sha256(str(path).encode()).hexdigest(),
            }
        )
    session.execute(insert(Frame), frames)
    counts["sets"] += 1
    return row.id
