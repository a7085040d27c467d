"""The scenario: rigs, nights and frames of autumn 2026 at an invented site. Nothing here is anybody's data."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.demo.rigs import FOCUS


@dataclass(frozen=True)
class Shot:
    """One series of frames to make: lights, raw calibration frames, or a master of so many."""

    rig: str
    kind: FrameKind
    first: datetime
    count: int
    exposure_s: float
    gain: float
    offset: float = 30.0
    temp_c: float = -10.0
    filter_code: str | None = None
    target: str | None = None
    angle_deg: float | None = None
    focus: float | None = None
    master_of: int | None = None
    brightness: int | None = None
    leak_e_s: float = 0.0
    odd_one: str | None = None
    """Through this filter goes the light of one of the frames, though its header says otherwise."""
    rejected: tuple[int, ...] = ()
    epoch: int = 0
    pier_side: str | None = None
    folder: str = ""
    moon: float = 0.0


def _at(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=UTC)


def _dark_master(
    text: str, exposure: float, gain: float, temp: float, frames: int, rig: str = "heron"
) -> Shot:
    return Shot(
        rig, FrameKind.DARK, _at(text), 1, exposure, gain, temp_c=temp, master_of=frames, folder="masters"
    )


def _lights(
    text: str,
    code: str,
    target: str,
    count: int,
    exposure: float,
    gain: float,
    angle: float,
    temp: float = -10.0,
    rejected: tuple[int, ...] = (),
    moon: float = 0.0,
    drift: float = 0.0,
) -> Shot:
    return Shot(
        "heron",
        FrameKind.LIGHT,
        _at(text),
        count,
        exposure,
        gain,
        temp_c=temp,
        filter_code=code,
        target=target,
        angle_deg=angle,
        focus=FOCUS[code] + drift,
        rejected=rejected,
        moon=moon,
    )


def _flat_master(
    text: str, code: str, gain: float, exposure: float, brightness: int, angle: float
) -> list[Shot]:
    return [
        Shot(
            "heron",
            FrameKind.FLAT,
            _at(text),
            1,
            exposure,
            gain,
            filter_code=code,
            angle_deg=angle,
            focus=FOCUS[code],
            master_of=50,
            brightness=brightness,
            folder="masters",
        ),
        Shot("heron", FrameKind.DARK_FLAT, _at(text), 1, exposure, gain, master_of=50, folder="masters"),
    ]


def shots() -> list[Shot]:
    """All series of the scenario. Times are UTC; British summer time is an hour ahead until 25 October."""
    # Bittern 200: another dialect, no rotator, a meridian flip, a re-spaced reducer, a leak.
    return [*_heron_capped(), *_heron_lights(), *_heron_flats(), *_heron_raw_flats(), *_bittern(), *_wader()]


def _heron_capped() -> list[Shot]:
    return [
        # Darks of Dunlin M24. The one of 300 s, −5 °C, gain 200 is missing.
        _dark_master("2026-09-12T13:10", 60, 100, -10, 50),
        _dark_master("2026-09-12T15:00", 60, 200, -10, 30),
        _dark_master("2026-09-13T12:00", 120, 100, -10, 100),
        _dark_master("2026-06-14T12:00", 120, 200, -10, 50),
        _dark_master("2025-10-10T12:00", 120, 100, -10, 40),
        _dark_master("2026-02-15T12:00", 180, 100, -10, 40),
        _dark_master("2026-09-12T18:00", 300, 200, -10, 100),
        _dark_master("2026-04-09T12:00", 300, 100, -10, 30),
        _dark_master("2025-09-14T12:00", 300, 200, -10, 60),
        _dark_master("2026-03-14T12:00", 600, 200, -10, 8),
        _dark_master("2026-05-16T12:00", 120, 100, -5, 60),
        _dark_master("2026-05-16T15:00", 120, 200, -5, 9),
        _dark_master("2026-05-17T12:00", 300, 100, -5, 40),
        _dark_master("2026-07-16T12:00", 60, 100, 0, 30),
        _dark_master("2026-07-16T13:00", 60, 200, 0, 25),
        *(
            Shot("heron", FrameKind.BIAS, _at(when), 1, 0.001, gain, master_of=n, folder="masters")
            for when, gain, n in (
                ("2026-10-03T14:00", 100, 200),
                ("2026-10-03T14:30", 200, 200),
                ("2026-01-06T14:00", 100, 100),
            )
        ),
        # The offset at gain 100 was looked at in October, with raw bias frames; at gain 200 it never was.
        *(
            Shot("heron", FrameKind.BIAS, _at(f"2026-10-03T15:{minute:02d}"), 6, 0.001, 100, offset)
            for minute, offset in ((0, 40.0), (2, 30.0), (4, 20.0), (6, 10.0), (8, 0.0))
        ),
    ]


def _heron_lights() -> list[Shot]:
    return [
        _lights("2026-10-02T20:40", "Ha", "NGC 281", 10, 300, 200, 2.4, -5, (7,)),
        _lights("2026-10-03T21:00", "Ha", "NGC 281", 8, 300, 200, 2.4, -5),
        _lights("2026-10-09T22:40", "Ha", "NGC 281", 9, 300, 200, 2.4, rejected=(3,)),
        _lights("2026-10-11T20:10", "OIII", "NGC 6888", 7, 300, 200, 91.2),
        _lights("2026-10-11T21:30", "Ha", "NGC 6888", 6, 300, 200, 91.2, rejected=(5,)),
        _lights("2026-10-16T19:50", "R", "M 33", 8, 120, 100, 91.2, rejected=(5, 6, 7)),
        _lights("2026-10-16T21:20", "G", "IC 5146", 7, 120, 100, 91.2),
        _lights("2026-10-17T20:00", "L", "IC 5146", 14, 60, 100, 91.2, rejected=(2,)),
        _lights("2026-10-17T21:10", "R", "IC 5146", 8, 120, 100, 91.2),
        _lights("2026-10-17T22:00", "G", "IC 5146", 8, 120, 100, 91.2),
        _lights("2026-10-18T18:50", "B", "IC 5146", 10, 120, 100, 91.3, rejected=(4,), moon=0.6),
        _lights("2026-10-18T19:40", "Ha", "NGC 6888", 12, 300, 200, 91.2, rejected=(11,), moon=0.4),
        _lights("2026-10-18T21:25", "OIII", "NGC 6888", 10, 300, 200, 91.2, drift=12),
        _lights("2026-10-18T22:55", "SII", "NGC 6888", 8, 300, 200, 91.2, rejected=(0,)),
    ]


def _heron_flats() -> list[Shot]:
    return [
        # Flats of 2 October (with the camera at 2.4°) and 11 October; SII never.
        *_flat_master("2026-10-03T01:10", "Ha", 200, 4.6, 60, 2.4),
        *_flat_master("2026-10-12T00:40", "OIII", 200, 3.3, 60, 91.2),
        *_flat_master("2026-10-12T00:55", "Ha", 200, 4.6, 60, 91.2),
        *_flat_master("2026-10-12T01:10", "B", 100, 0.68, 20, 91.2),
    ]


def _heron_raw_flats() -> list[Shot]:
    """Of 17 October, not combined yet; one frame among R went through G."""
    return [
        Shot(
            "heron",
            FrameKind.FLAT,
            _at("2026-10-18T00:20"),
            12,
            0.78,
            100,
            filter_code="R",
            angle_deg=91.2,
            focus=FOCUS["R"],
            brightness=20,
            odd_one="G",
        ),
        Shot(
            "heron",
            FrameKind.FLAT,
            _at("2026-10-18T00:24"),
            10,
            0.60,
            100,
            filter_code="G",
            angle_deg=91.2,
            focus=FOCUS["G"],
            brightness=20,
        ),
        Shot("heron", FrameKind.DARK_FLAT, _at("2026-10-18T00:30"), 10, 0.78, 100),
        Shot("heron", FrameKind.DARK_FLAT, _at("2026-10-18T00:34"), 10, 0.60, 100),
    ]


def _wader() -> list[Shot]:
    """ISO for gain, no cooler."""
    return [
        Shot(
            "wader",
            FrameKind.LIGHT,
            _at("2026-08-30T22:00"),
            5,
            60,
            1600,
            0,
            18.0,
            None,
            "M 33",
            folder="wader",
        ),
        Shot("wader", FrameKind.DARK, _at("2026-08-30T23:10"), 6, 60, 1600, 0, 17.2, folder="wader"),
    ]


def _bittern() -> list[Shot]:
    def one(kind: FrameKind, text: str, count: int, exposure: float, **more: Any) -> Shot:
        lit: dict[str, Any] = (
            {"filter_code": "Duo", "focus": 8_400.0} if kind in (FrameKind.LIGHT, FrameKind.FLAT) else {}
        )
        return Shot(
            "bittern", kind, _at(text), count, exposure, 120, 20.0, more.pop("temp_c", 0.0), **lit, **more
        )

    light, flat, dark = FrameKind.LIGHT, FrameKind.FLAT, FrameKind.DARK
    return [
        one(light, "2026-08-28T22:10", 6, 180, target="NGC 6888", angle_deg=12.0, pier_side="west"),
        one(light, "2026-09-26T20:30", 5, 180, target="M 33", angle_deg=12.1, pier_side="east", epoch=1),
        one(light, "2026-09-27T00:20", 5, 180, target="M 33", angle_deg=192.1, pier_side="west", epoch=1),
        one(
            flat,
            "2026-08-29T04:20",
            1,
            2.4,
            angle_deg=12.0,
            pier_side="west",
            brightness=90,
            master_of=30,
            folder="masters",
        ),
        one(flat, "2026-09-27T04:40", 10, 2.4, angle_deg=12.1, pier_side="east", brightness=90, epoch=1),
        one(FrameKind.DARK_FLAT, "2026-09-27T05:00", 10, 2.4, leak_e_s=220.0),
        one(FrameKind.BIAS, "2026-08-20T12:00", 1, 0.001, master_of=100, folder="masters"),
        one(dark, "2026-08-20T13:00", 1, 180, master_of=40, folder="masters"),
    ]
