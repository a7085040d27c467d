"""Whether the rig is ready for a sheet: what to know before the start, in one line each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.digits import file_size
from grayshelf.core.matching import rulers
from grayshelf.core.matching.model import CommonSettings, Ruler
from grayshelf.core.planning.forecast import bytes_needed
from grayshelf.core.planning.sheet import DarkSeries, FlatSeries, RunSheet
from grayshelf.devices.ports import RigDevices
from grayshelf.library.camera_values import checked_offsets
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet
from grayshelf.library.models import Job, Rig
from grayshelf.library.rig_terms import gain_word, offset_warning, offsets_told
from grayshelf.work.job_states import JobState


@dataclass(frozen=True)
class Ready:
    """One line of what to know before the start."""

    what: str
    text: str
    good: bool
    stops: bool = False
    """Whether the run cannot start like this."""
    ruler: Ruler | None = None


def last_run(session: Session, rig_id: int) -> str:
    """What the rig's last run that went to its end shot and built."""
    query = select(Job.message).where(Job.kind == "run", Job.rig_id == rig_id, Job.state == JobState.DONE)
    return session.scalar(query.order_by(Job.id.desc()).limit(1)) or ""


def ready_lines(
    library: Library,
    rig: Rig,
    sheet: RunSheet,
    devices: RigDevices | None,
    last_run: str,
    size: tuple[int, int] | None,
) -> list[Ready]:
    """What to know before the start, in one line each."""
    if devices is None:
        needs = (
            ""
            if size is None or not sheet.steps
            else f"needs {file_size(bytes_needed(sheet.steps, *size))} where your program puts the frames; "
        )
        room = f"{file_size(library.room(library.root))} free for masters, in {library.root / 'masters'}"
        return [
            Ready("destination", f"{needs}{room}", good=True),
            Ready(
                "devices",
                "none are connected to this rig: your own program shoots, and Gray Shelf looks at each frame",
                good=True,
            ),
        ]
    lines = [_room(library, sheet, size)]
    absent = [
        name
        for name, device in (
            ("filter wheel", devices.wheel),
            ("panel control", devices.panel),
            ("focuser", devices.focuser),
            ("rotator", devices.rotator),
        )
        if device is None
    ]
    trouble = getattr(devices.camera, "trouble", "")
    present = trouble or f"{devices.camera.facts.name} and its rig answer"
    lines.append(
        Ready(
            "devices",
            f"{present}; no {', no '.join(absent)}" if absent and not trouble else present,
            good=not trouble,
        )
    )
    lines += _not_to_be_set(devices, sheet)
    cooler = devices.camera.cooler()
    if cooler.set_point_c is not None:
        want = CommonSettings(None, 1, 1, sensor_temp_c=cooler.set_point_c)
        have = CommonSettings(None, 1, 1, sensor_temp_c=cooler.sensor_c)
        ruler = rulers.temperature(want, have, 0.5)
        text = f"set to {cooler.set_point_c:.0f} °C, at {cooler.power_percent:.0f} % power".replace("-", "−")
        lines.append(Ready("cooler", text, good=ruler.inside, ruler=ruler))
    wheel = devices.wheel
    if wheel is not None:
        unknown = sorted({r.filter_code for r in sheet.rows} - set(wheel.filters))
        if unknown:
            text = f"{', '.join(unknown)} is not in the wheel; put it in or leave its flats out"
            lines.append(Ready("filters", text, good=False, stops=True))
    lines += untold_offset(library, rig, sheet, devices) or _unchecked(library, rig, sheet)
    if last_run:
        lines.append(Ready("last run", last_run, good=True))
    return lines


def _not_to_be_set(devices: RigDevices, sheet: RunSheet) -> list[Ready]:
    """What is asked of the camera that it cannot be set to: typed by hand, a gain may be any."""
    facts = devices.camera.facts
    asked: list[FlatSeries | DarkSeries] = [*sheet.rows, *sheet.darks]
    lines = []
    for what, values, span in (
        ("gain", {s.gain for s in asked}, facts.gain_range),
        ("offset", {s.offset for s in asked}, facts.offset_range),
        ("binning", {float(s.binning) for s in asked}, (1, facts.most_binning)),
    ):
        # 0 stands for one that is not told.
        beyond = [v for v in sorted(values - {0.0}) if span is not None and not span[0] <= v <= span[1]]
        if span is not None and beyond:
            text = f"{facts.name} has {what} from {span[0]:g} to {span[1]:g}, not {beyond[-1]:g}"
            lines.append(Ready("camera", text, good=False, stops=True))
    return lines


def untold_offset(library: Library, rig: Rig, sheet: RunSheet, devices: RigDevices) -> list[Ready]:
    """A camera that has an offset to set, and a sheet of lights that do not tell theirs: it would be set to 0.

    The lights may be another program's than the frames that tell one.
    """
    at_none = 0.0 in {*(row.offset for row in sheet.rows), *(dark.offset for dark in sheet.darks)}
    told = offsets_told(library, rig.camera)
    if devices.camera.facts.offset_range is None or not at_none or 0.0 in told:
        return []
    who = "the lights do not tell it" if told else "no frame tells it"
    text = f"{who}, and {devices.camera.facts.name} has one to set: say what it was (Intake, ‘Say what is lacking or wrong’)"
    return [Ready("offset", text, good=False, stops=True)]


def _unchecked(library: Library, rig: Rig, sheet: RunSheet) -> list[Ready]:
    """Offsets of tonight's lights that were never checked at their gain, or do not hold there."""
    pairs = sorted({(row.gain, row.offset) for row in sheet.rows})
    unsure = [(g, o) for g, o in pairs if offset_warning(library, rig.camera, g, o)]
    if not unsure:
        return []
    known = checked_offsets(library, rig.camera)
    words = " and ".join(f"{o:g} at {gain_word(library, rig.camera)} {g:g}" for g, o in unsure)
    said = "does not hold" if all(g in known for g, _ in unsure) else "was never checked"
    return [Ready("offset", f"{words} {said}", good=False)]


def _room(library: Library, sheet: RunSheet, size: tuple[int, int] | None) -> Ready:
    """Destination and free space in one line."""
    free = library.room(library.root)
    place = library.root / "frames"
    if size is None:
        return Ready("destination", f"{file_size(free)} free, in {place}", good=True)
    need = bytes_needed(sheet.steps, *size)
    text = f"needs {file_size(need)}, {file_size(free)} free, in {place}"
    return Ready("destination", text, good=free > 1.5 * need, stops=free < need)


def frame_size(devices: RigDevices | None, lights: Sequence[LightSet]) -> tuple[int, int] | None:
    """Width and height of the rig's frames: as the camera says, else as its newest lights are."""
    if devices is not None:
        return devices.camera.facts.width, devices.camera.facts.height
    return (lights[-1].facts.width, lights[-1].facts.height) if lights else None
