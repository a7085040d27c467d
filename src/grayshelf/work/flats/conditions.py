"""What the search for one row of the sheet works with, as it is at this moment."""

from __future__ import annotations

from sqlalchemy.orm import Session

from grayshelf.core.flats.model import FlatTarget, Pedestal, TestShot
from grayshelf.core.flats.search.window import CameraTraits, permitted
from grayshelf.core.flats.settings import FlatWishes, RowKey
from grayshelf.core.sensor.statistics import camera_white, lower_full
from grayshelf.devices.ports import RigDevices
from grayshelf.library.flat_settings import newest_settings, stale_reason
from grayshelf.library.flat_sheet import (
    SheetRow,
    Source,
    lights_by_row,
    row_pedestal,
    row_target,
    source_of,
    wishes_for,
)
from grayshelf.library.library import Library
from grayshelf.library.lights import light_sets
from grayshelf.library.models import Rig, RunShot
from grayshelf.library.records import read
from grayshelf.library.rig_terms import camera_of, gain_word, says_of
from grayshelf.library.step_records import ShotStats


def camera_traits(rig: Rig, devices: RigDevices | None) -> CameraTraits:
    """What of a rig's camera bears on its exposures: what its driver says and what was typed, whichever is stricter."""
    typed = camera_of(rig).exposures()
    if devices is not None:
        facts = devices.camera.facts
        repeatable_s = max(facts.repeatable_from_s, typed.repeatable_from_s)
        shutter = typed.shutter if facts.shutter == "electronic" else facts.shutter
        return CameraTraits(max(facts.shortest_s, typed.shortest_s), repeatable_s, shutter)
    return typed


def panel_range(devices: RigDevices | None) -> tuple[int, int] | None:
    """What the rig's panel says of its brightness."""
    if devices is None or devices.panel is None:
        return None
    return devices.panel.lowest, devices.panel.highest


def is_colour(library: Library, rig: Rig, devices: RigDevices | None) -> bool:
    """Whether the rig's camera has a colour pattern; by its lights where it is not connected."""
    if devices is not None:
        return devices.camera.facts.bayer_pattern is not None
    return any(of.newest.bayer_pattern for of in lights_by_row(library, rig.id).values())


def camera_size(library: Library, rig: Rig, devices: RigDevices | None) -> tuple[int, int, int]:
    """Width, height and white level of the rig's camera, unbinned; where it is not connected from its lights, the level as
    it was typed where that was done."""
    if devices is not None:
        facts = devices.camera.facts
        return facts.width, facts.height, facts.white_adu
    typed = camera_of(rig).white_adu
    for lights in light_sets(library, rig):
        binning = lights.facts.binning_x or 1
        white = typed or lower_full(camera_white(lights.row.sample_step or 1), lights.facts.full_adu)
        return lights.facts.width * binning, lights.facts.height * binning, white
    return 0, 0, typed or 65535


def as_test_shot(shot: RunShot) -> TestShot:
    """A kept shot in the words of the search."""
    stats = read(ShotStats, shot.stats)
    return TestShot(
        shot.exposure_s,
        stats.median,
        stats.brightest_permille,
        stats.saturated_fraction,
        brightness=shot.brightness,
    )


class RowConditions:
    """Everything that a row's search works with, as it is at this moment."""

    def __init__(
        self,
        library: Library,
        session: Session,
        rig: Rig,
        devices: RigDevices | None,
        key: RowKey,
        white_adu: int | None = None,
        row: SheetRow | None = None,
    ) -> None:
        """`row` is what the sheet has of it where it was read already; it spares asking once more."""
        self.key = key
        self.gain_word, self.says = gain_word(library, rig.camera), says_of(library, rig)
        self.wishes: FlatWishes = row.wishes if row else wishes_for(library, session, rig, key)
        width, height, white = camera_size(library, rig, devices)
        self.white_adu = white_adu or white
        self.source: Source = source_of(session, rig, self.wishes, panel_range(devices))
        self.pedestal: Pedestal | None = row_pedestal(library, rig.camera, width, height, key, self.white_adu)
        self.target: FlatTarget = row_target(library, rig, self.wishes, key, self.white_adu, self.pedestal)
        pulse, timed, traits = self.source.pulse, self.source.timed, camera_traits(rig, devices)
        self.window = permitted(self.wishes.shortest, self.wishes.longest, traits, pulse, timed)
        in_wheel = next((f for f in rig.filters if f.code == key.filter_code), None)
        self.width_nm = in_wheel.width_nm if in_wheel else None
        self.rig_brightness = in_wheel.brightness if in_wheel else None
        self.wheel_position = in_wheel.position if in_wheel else 0
        setting = row.setting if row else newest_settings(session, rig.id).get(key)
        self.setting = None if stale_reason(setting, rig.events) else setting

    def brightness(self) -> int | None:
        """The brightness that stays where only the time is looked for."""
        if self.source.dimmer is None:
            return None
        wish = self.wishes.brightness
        if wish is None and self.setting is not None:
            wish = self.setting.brightness
        if wish is None:
            wish = self.rig_brightness
        low, high = self.source.dimmer.lowest, self.source.dimmer.highest
        return min(max(wish if wish is not None else (low + high) // 4, low), high)
