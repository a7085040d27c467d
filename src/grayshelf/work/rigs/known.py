"""All that is known of a rig, gathered for drawing its train."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.flats.settings import wishes_from
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.matching.rulers import plain_name
from grayshelf.core.rigs.cards import MOVABLE
from grayshelf.core.rigs.names import place_in_wheel
from grayshelf.core.rigs.train import PartKind, SeenFilter, SeenTelescope, TrainFacts
from grayshelf.devices.hand_camera import HandCamera
from grayshelf.devices.ports import RigDevices
from grayshelf.library.camera_values import accepted
from grayshelf.library.facts_json import facts_if_sound
from grayshelf.library.flat_sheet import Source, source_of
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet, light_sets
from grayshelf.library.models import FrameSet, Rig
from grayshelf.library.panel_curves import curves_of
from grayshelf.library.rig_cards import moved_by
from grayshelf.library.rig_terms import camera_of
from grayshelf.library.sites import site_of
from grayshelf.library.trains import standing_rigs
from grayshelf.work.flats.conditions import panel_range


def train_facts(library: Library, session: Session, rig: Rig, devices: RigDevices | None) -> TrainFacts:
    """What sheets, headers, the Bench and devices say of a rig."""
    lights = light_sets(library, rig)
    typed = {k: rig.parts.get(k.value, {}).get("name", "") for k in PartKind}
    return TrainFacts(
        names={k: name for k, name in typed.items() if name and k is not PartKind.TELESCOPE},
        moved_by={kind: moved_by(rig, kind) for kind in MOVABLE},
        telescope=_with_reducer(rig.telescope, typed[PartKind.TELESCOPE]),
        aperture_mm=rig.aperture_mm,
        focal_length_mm=rig.focal_length_mm,
        typed_telescope=_typed_optics(rig, lights),
        **_of_light(session, rig, devices),
        **_of_headers(session, rig, lights),
        **_of_bench(session, rig),
        **_of_devices(devices),
        **_of_site(library, session, rig),
    )


def _with_reducer(telescope: str | None, reducer: str) -> str | None:
    return f"{telescope or ''} with {reducer}".strip() if reducer else telescope


def _typed_optics(rig: Rig, lights: Sequence[LightSet]) -> bool:
    """Whether aperture and focal length are other than any header says."""
    told = {(s.facts.aperture_mm, s.facts.focal_length_mm) for s in lights}
    return (rig.aperture_mm, rig.focal_length_mm) not in told


def light_of(session: Session, rig: Rig, devices: RigDevices | None) -> Source | None:
    """The rig's light; None where none is known."""
    source = source_of(session, rig, wishes_from(rig.wishes), panel_range(devices))
    return source if source.id is not None or source.dimmer is not None else None


def _of_light(session: Session, rig: Rig, devices: RigDevices | None) -> dict[str, Any]:
    source = light_of(session, rig, devices)
    if source is None:
        return {}
    curves = curves_of(session, source.id, rig) if source.id is not None else []
    dimmer = source.dimmer
    return {
        "light": source.name,
        "brightness": (dimmer.lowest, dimmer.highest) if dimmer else None,
        "light_kind": source.kind,
        "light_of_device": source.id is None,
        "lit_within_s": (source.timed.before_s, source.timed.after_s) if source.timed else None,
        "pulse_hz": source.pulse.hz if source.pulse else None,
        "diffusers": tuple(d.name for d in source.diffusers),
        "curve_shots": curves[0].shots if curves else 0,
    }


def _of_headers(session: Session, rig: Rig, lights: Sequence[LightSet]) -> dict[str, Any]:
    facts = [s.facts for s in lights]
    newest = facts[-1] if facts else _any_of_camera(session, rig.camera)
    telescopes = Counter[tuple[str | None, float | None]]()
    for s in lights:
        telescopes[s.facts.telescope, s.facts.focal_length_mm] += s.row.n_frames
    angles = [f.angle.deg for f in facts if f.angle is not None and f.angle.of == "mechanical"]
    return {
        "telescopes": tuple(SeenTelescope(name, mm, n) for (name, mm), n in telescopes.most_common()),
        "filters": _filters(rig, lights),
        "angles_deg": _span(angles),
        "focus": _span(f.focus for f in facts),
        "size": (newest.width * (newest.binning_x or 1), newest.height * (newest.binning_y or 1))
        if newest
        else None,
        "pixel_um": newest.pixel_um if newest else None,
        "bayer_pattern": newest.bayer_pattern if newest else None,
        "gains": _each(f.gain for f in facts),
        "offsets": _each(f.offset for f in facts),
        "read_modes": _each(f.read_mode or None for f in facts),
        "sample_step": lights[-1].row.sample_step if lights else None,
    }


def _each(values: Iterable[Any]) -> tuple[Any, ...]:
    """Every value that there is, once."""
    return tuple(sorted({v for v in values if v is not None}))


def _any_of_camera(session: Session, camera: str) -> FrameFacts | None:
    row = session.scalar(
        select(FrameSet).where(FrameSet.camera == camera).order_by(FrameSet.id.desc()).limit(1)
    )
    return None if row is None else facts_if_sound(row.facts)


def _filters(rig: Rig, lights: Sequence[LightSet]) -> tuple[SeenFilter, ...]:
    """Those of its sheet, then those that only headers name."""
    frames = Counter[str]()
    for s in lights:
        if s.facts.filter_code:
            frames[s.facts.filter_code] += s.row.n_frames
    typed = [SeenFilter(f.code, frames[f.code], f.passband_nm, f.width_nm) for f in rig.filters]
    known = {f.code for f in typed}
    seen = sorted(frames.items(), key=lambda one: place_in_wheel(one[0]))
    return (*typed, *(SeenFilter(code, n, typed=False) for code, n in seen if code not in known))


def _span(values: Iterable[float | None]) -> tuple[float, float] | None:
    known = [v for v in values if v is not None]
    return (min(known), max(known)) if known else None


def _of_bench(session: Session, rig: Rig) -> dict[str, Any]:
    card = camera_of(rig)
    return {
        "gains_measured": tuple(sorted(accepted(session, rig.camera, "gain"))),
        "offsets_checked": tuple(sorted(accepted(session, rig.camera, "offset"))),
        "cooled": card.cooled,
        "below_air_c": card.below_air_c,
    }


def _of_devices(devices: RigDevices | None) -> dict[str, Any]:
    if devices is None:
        return {}
    camera, by_hand = devices.camera.facts, isinstance(devices.camera, HandCamera)
    drives = {
        PartKind.CAMERA: None if by_hand else devices.camera,
        PartKind.FILTERS: devices.wheel,
        PartKind.LIGHT: devices.panel,
        PartKind.ROTATOR: devices.rotator,
        PartKind.FOCUSER: devices.focuser,
        PartKind.COVER: devices.cover,
        PartKind.MOUNT: devices.mount,
    }
    driven = {
        "drives": frozenset(kind for kind, device in drives.items() if device is not None),
        "device_wheel": devices.wheel.filters if devices.wheel else (),
    }
    if by_hand:
        # What stands in for a camera that another program runs says nothing of it.
        return driven
    return {
        **driven,
        "connected": True,
        "device_cooled": camera.cooled,
        "device_gain_range": camera.gain_range,
    }


def _of_site(library: Library, session: Session, rig: Rig) -> dict[str, Any]:
    site = site_of(library, session, rig)
    mount = plain_name(rig.parts.get(PartKind.MOUNT.value, {}).get("name") or None)
    same = [
        other.name
        for other in session.scalars(standing_rigs())
        if mount is not None
        and other.id != rig.id
        and plain_name(other.parts.get(PartKind.MOUNT.value, {}).get("name") or None) == mount
    ]
    return {
        "mount_shared_with": tuple(same),
        "site": site["name"],
        "time_zone": site["time_zone"],
        "latitude_deg": site["latitude"],
        "longitude_deg": site["longitude"],
    }
