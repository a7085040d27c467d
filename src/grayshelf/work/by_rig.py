"""What a rig does by itself where it has the devices: a cover, a mount, a safety monitor and a weather station beside the train."""

from __future__ import annotations

import logging
from threading import Event

from grayshelf.core.errors import DeviceError, GrayShelfError
from grayshelf.core.flats.sky.sun import sun_altitudes, sun_azimuth
from grayshelf.core.frames.night import night_of_utc
from grayshelf.core.planning.pointing import AfterFlats, MountCard, may_not_face_sky, sky_place
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.library.models import Rig
from grayshelf.library.mount_card import mount_card
from grayshelf.library.night_log import keep_log, log_of
from grayshelf.library.sites import has_place, site_of, zone_of
from grayshelf.work.job_control import JobControl

log = logging.getLogger(__name__)


def passes(library: Library, sign: str, devices: RigDevices, control: JobControl) -> bool:
    """Let the rig do its part of what a gate asks for; whether nothing is left for a hand.

    A telescope is uncovered, or pointed, only while it is safe; until then this waits.

    Raises
    ------
    DeviceError
        Where a device does not do it.
    """
    if sign in ("cap", "cover"):
        if devices.cover is not None:
            devices.cover.shut()
        return devices.cover is not None
    if sign == "panel":
        return _faces_light(library, devices, control)
    if sign == "sky":
        return _faces_sky(library, devices, control)
    return False


def _faces_light(library: Library, devices: RigDevices, control: JobControl) -> bool:
    cover, mount = devices.cover, devices.mount
    if cover is not None and cover.is_light:
        cover.shut()
        return True
    with library.db.session() as session:
        place = faces(library.rig(session, control.rig_id or 0), devices)
    if cover is None and place is None:
        return False
    wait_until_safe(devices, control)
    if cover is not None:
        cover.open()
    if mount is None or place is None:
        return False
    mount.point(*place, control.cancel)
    # A light that no device sets has to be lit by a hand.
    return devices.panel is not None


def faces(rig: Rig, devices: RigDevices) -> tuple[float, float] | None:
    """Altitude and azimuth, in degrees, of a panel that the mount can face; None where a hand brings the light."""
    return mount_card(rig).panel if devices.mount is not None else None


def faces_light(rig: Rig, devices: RigDevices) -> bool:
    """Whether the telescope faces its light without a hand: a cover that is the panel, or a driven one on a wall."""
    if devices.cover is not None and devices.cover.is_light:
        return True
    return devices.panel is not None and faces(rig, devices) is not None


def is_cold(devices: RigDevices) -> bool:
    """Whether a cooler is on; one that does not answer at the end of work is taken to be off."""
    try:
        return devices.camera.cooler().set_point_c is not None
    except DeviceError:
        return False


def _faces_sky(library: Library, devices: RigDevices, control: JobControl) -> bool:
    with library.db.session() as session:
        rig = library.rig(session, control.rig_id or 0)
        card, site = mount_card(rig), site_of(library, session, rig)
    if not has_place(site):
        return False
    if devices.cover is None and devices.mount is None:
        return False
    wait_until_safe(devices, control)
    # Only now: the sun went on meanwhile.
    place, now = (site["latitude"], site["longitude"]), library.clock.now()
    if may_not_face_sky(float(sun_altitudes(*place, [now])[0])):
        return False
    if devices.cover is not None:
        devices.cover.open()
    if devices.mount is None:
        return False
    sun = sun_azimuth(*place, now)
    devices.mount.point(*sky_place(sun, card.horizon_deg), control.cancel)
    return True


def go_home(library: Library, rig_id: int, devices: RigDevices | None, cancel: Event) -> str:
    """Park the mount after flats, or send it home, as was said of it; what went wrong, in a sentence."""
    if devices is None or devices.mount is None:
        return ""
    with library.db.session() as session:
        card: MountCard = mount_card(library.rig(session, rig_id))
    try:
        if card.after is AfterFlats.PARK:
            devices.mount.park(cancel)
        elif card.after is AfterFlats.HOME:
            devices.mount.home(cancel)
    except DeviceError as error:
        return f"The mount was not sent {'to its parking place' if card.after is AfterFlats.PARK else 'home'}: {error.message}"
    return ""


def why_unsafe(devices: RigDevices) -> str:
    """Why nothing is exposed just now; empty where it is safe, or nothing tells."""
    if devices.safety is None or devices.safety.is_safe():
        return ""
    return f"{devices.safety.name} does not say that it is safe"


def wait_until_safe(devices: RigDevices, control: JobControl) -> None:
    """Wait as long as the safety monitor does not say that it is safe, and tell why.

    Raises
    ------
    Stopped
        Where the person stops the job instead.
    """
    control.wait_while(
        lambda: why_unsafe(devices),
        "What was shot is kept. It goes on by itself as soon as it is safe.",
        "It is safe again.",
    )


def note_weather(library: Library, rig_id: int, devices: RigDevices, *, begins: bool) -> None:
    """Note in the night's log what the weather station says when work begins, or ends; what stands there stays."""
    if devices.weather is None:
        return
    try:
        told = devices.weather.now()
        air = "air_from_c" if begins else "air_to_c"
        seen = {
            air: told.air_c,
            "humidity_percent": told.humidity_percent,
            "seeing_arcsec": told.seeing_arcsec,
        }
        with library.db.session() as session:
            rig = library.rig(session, rig_id)
            night = night_of_utc(library.clock.now(), zone_of(library, session, rig))
            had = log_of(session, rig.id, night)
            known = dict(had.conditions) if had is not None else {}
            new = {name: value for name, value in seen.items() if value is not None and name not in known}
            if new:
                keep_log(session, rig.id, night, weather=new)
    except GrayShelfError as error:
        log.warning("the weather is not noted: %s", error)
