"""Making the demo's frames: FITS files in a folder, as a camera program would leave them."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import lru_cache
from pathlib import Path
from typing import Any
from zlib import crc32

import numpy as np
from astropy.io import fits

from grayshelf.core.filing.names import safe_name
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.night import night_of_utc, site_zone
from grayshelf.core.frames.write import write_frame
from grayshelf.demo.rigs import MODELS, SITE
from grayshelf.demo.scenario import Shot, shots
from grayshelf.devices.simulated.camera_model import Conditions, Map, expose, stacked
from grayshelf.devices.simulated.rig import RigModel
from grayshelf.devices.simulated.train_model import flat_field, sky_scene

#: Increase when frames of an older demo must be made anew.
VERSION = 4


@dataclass(frozen=True)
class _Task:
    shot: Shot
    number: int
    path: Path
    size: str


@lru_cache(maxsize=4)
def _model(rig: str, size: str) -> RigModel:
    return MODELS[rig](size)


def _light(task: _Task) -> Map | float:
    """Light on the sensor, electrons a second."""
    shot, model = task.shot, _model(task.shot.rig, task.size)
    sensor = model.sensor
    if shot.kind.capped:
        return shot.leak_e_s
    code = shot.filter_code or "none"
    if shot.odd_one and task.number == 6:
        code = shot.odd_one
    angle = shot.angle_deg or 0.0
    through = flat_field(
        model.train,
        sensor.width,
        sensor.height,
        code,
        round(angle, 1),
        round((shot.focus or 0.0) / 50) * 50,
        shot.epoch,
    )
    if shot.kind is FrameKind.FLAT:
        return through * np.float32(model.panel.output(shot.brightness or 0) * model.panel_through[code])
    sky = model.sky_e_s[code]
    stars, nebula = sky_scene(sensor.width, sensor.height, crc32((shot.target or "").encode()))
    glow = np.float32(sky * (1.0 + shot.moon))
    return through * (glow + stars * np.float32(60.0 * sky + 40.0) + nebula * np.float32(0.3 * sky))


def _header(task: _Task, began: datetime, temp_c: float) -> fits.Header:
    """The header in the dialect of the program that 'took' the frame."""
    shot, model = task.shot, _model(task.shot.rig, task.size)
    header = fits.Header()
    stamp = began.replace(tzinfo=None).isoformat(timespec="milliseconds")
    local = (
        began.astimezone(site_zone(str(SITE["time_zone"])))
        .replace(tzinfo=None)
        .isoformat(timespec="milliseconds")
    )
    header["INSTRUME"] = model.sensor.name
    if shot.rig == "heron":
        _first_dialect(header, shot, stamp, temp_c, model)
    elif shot.rig == "bittern":
        _second_dialect(header, shot, stamp, local, temp_c, model)
    else:
        _third_dialect(header, shot, local, temp_c, model)
    header["XPIXSZ"] = model.sensor.pixel_um
    header["EGAIN"] = round(model.sensor.e_per_adu(shot.gain if shot.rig != "wader" else 0.0), 4)
    if model.sensor.bayer_pattern:
        header["BAYERPAT"] = model.sensor.bayer_pattern
        header["ROWORDER"] = "TOP-DOWN"
    if shot.master_of:
        header["NCOMBINE"] = shot.master_of
    if not shot.kind.capped:
        header["TELESCOP"] = model.train.name
        header["FOCALLEN"] = model.train.focal_length_mm
        header["APTDIA"] = model.train.aperture_mm
    return header


def _first_dialect(header: fits.Header, shot: Shot, stamp: str, temp_c: float, model: RigModel) -> None:
    words = {"light": "LIGHT", "flat": "FLAT", "dark": "DARK", "bias": "BIAS", "dark flat": "DARKFLAT"}
    header["IMAGETYP"] = ("Master " if shot.master_of else "") + words[shot.kind.value]
    header["EXPTIME"] = shot.exposure_s
    header["DATE-OBS"] = stamp
    header["GAIN"], header["OFFSET"] = int(shot.gain), int(shot.offset)
    header["XBINNING"], header["YBINNING"] = 1, 1
    header["CCD-TEMP"], header["SET-TEMP"] = temp_c, shot.temp_c
    if shot.filter_code and not shot.kind.capped:
        header["FILTER"] = shot.filter_code
    if shot.target:
        header["OBJECT"] = shot.target
        header["AMBTEMP"] = 6.0
    if shot.angle_deg is not None:
        header["ROTATANG"] = shot.angle_deg
    if shot.focus is not None:
        header["FOCUSPOS"] = int(shot.focus)


def _second_dialect(
    header: fits.Header, shot: Shot, stamp: str, local: str, temp_c: float, model: RigModel
) -> None:
    words = {
        "light": "Light Frame",
        "flat": "Flat Field",
        "dark": "Dark Frame",
        "bias": "Bias Frame",
        "dark flat": "FlatDark",
    }
    header["IMAGETYP"] = words[shot.kind.value]
    header["EXPOSURE"] = round(shot.exposure_s * 0.99995, 5)
    header["DATE-OBS"], header["DATE-LOC"] = stamp + "Z", local
    header["GAIN"], header["BLKLEVEL"] = int(shot.gain), int(shot.offset)
    header["XBINNING"] = 1
    header["CCD-TEMP"] = temp_c
    if shot.filter_code:
        header["FILTER"] = shot.filter_code
    if shot.target:
        header["OBJECT"] = shot.target
    if shot.angle_deg is not None:
        header["POSANGLE"], header["PIERSIDE"] = shot.angle_deg, (shot.pier_side or "").upper()
    if shot.focus is not None:
        header["FOCPOS"] = int(shot.focus)


def _third_dialect(header: fits.Header, shot: Shot, local: str, temp_c: float, model: RigModel) -> None:
    header["FRAME"] = shot.kind.value
    header["EXPTIME"] = shot.exposure_s
    header["DATE-LOC"] = local
    header["ISO"] = int(shot.gain)
    header["CCD-TEMP"] = temp_c
    if shot.target:
        header["OBJECT"] = shot.target


def _make(task: _Task) -> str:
    """Make one file, unless it is there."""
    if task.path.exists():
        return task.path.name
    shot, model = task.shot, _model(task.shot.rig, task.size)
    began = shot.first + timedelta(seconds=task.number * (shot.exposure_s + 3.0))
    seed = crc32(f"{shot.rig}{shot.kind}{shot.first}{shot.gain}{shot.exposure_s}{task.number}".encode())
    rng = np.random.default_rng(seed)
    temp_c = round(shot.temp_c + 0.08 * float(rng.standard_normal()), 2)
    gain = shot.gain if shot.rig != "wader" else 0.0
    c = Conditions(
        shot.exposure_s, gain, shot.offset, temp_c, began.date(), task.number == 0 and shot.count > 3
    )
    header = _header(task, began, temp_c)
    task.path.parent.mkdir(parents=True, exist_ok=True)
    part = task.path.with_suffix(".part")
    with part.open("wb") as stream:
        if shot.master_of:
            mean = stacked(model.sensor, _light(task), c, shot.master_of, rng)
            fits.PrimaryHDU(mean.astype(np.float32), header).writeto(stream)
        else:
            write_frame(stream, expose(model.sensor, _light(task), c, rng), header)
    part.replace(task.path)
    return task.path.name


def _tasks(folder: Path, size: str) -> Iterator[_Task]:
    zone = site_zone(str(SITE["time_zone"]))
    for shot in shots():
        night = night_of_utc(shot.first, zone).isoformat()
        kind = shot.kind.value.replace(" ", "")
        words = [kind, shot.filter_code or "", f"{shot.exposure_s:g}s", f"gain{shot.gain:g}"]
        if shot.kind is FrameKind.BIAS and shot.master_of is None:
            words.append(f"offset{shot.offset:g}")
        stem = safe_name("_".join(w for w in words if w))
        base = folder / shot.rig / ("masters" if shot.master_of else night)
        if shot.target:
            base = base / safe_name(shot.target)
        for number in range(shot.count):
            where = base / "rejected" if number in shot.rejected else base
            if shot.master_of:
                yield _Task(shot, 0, base / f"master_{stem}_{shot.temp_c:.0f}C_{night}.fits", size)
            else:
                yield _Task(shot, number, where / f"{stem}_{shot.first:%H%M}_{number + 1:03d}.fits", size)


def is_current(folder: Path, size: str) -> bool:
    """Whether the frames below `folder` are all there, and of this version of the scenario."""
    note = folder / "made.json"
    return note.exists() and json.loads(note.read_text()) == {"version": VERSION, "size": size}


def generate(folder: Path, size: str, progress: Callable[[int, int], None]) -> None:
    """Make all frames of the scenario below `folder`; those that are there are left alone."""
    folder.mkdir(parents=True, exist_ok=True)
    note = folder / "made.json"
    wanted: dict[str, Any] = {"version": VERSION, "size": size}
    if is_current(folder, size):
        return
    tasks = list(_tasks(folder, size))
    with ProcessPoolExecutor(max_workers=2) as pool:
        for done, _ in enumerate(pool.map(_make, tasks, chunksize=6), start=1):
            progress(done, len(tasks))
    _odds_and_ends(folder, tasks)
    note.write_text(json.dumps(wanted))


def _odds_and_ends(folder: Path, tasks: list[_Task]) -> None:
    """What anybody's folder has among its frames: a duplicate, a cut-off file, a file that is no frame."""
    light = next(t.path for t in tasks if t.shot.kind is FrameKind.LIGHT and t.shot.target == "NGC 6888")
    copy = folder / "heron" / "copied from the stick" / light.name
    copy.parent.mkdir(parents=True, exist_ok=True)
    shutil.copyfile(light, copy)
    whole = tasks[-1].path.read_bytes()
    (folder / "wader" / "cut_off.fits").write_bytes(whole[: len(whole) // 2])
    (folder / "wader" / "notes.fits").write_text("Battery low at three; two more darks wanted.\n")
