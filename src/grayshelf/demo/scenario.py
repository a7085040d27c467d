"""The scenario: rigs, nights and frames of autumn 2026 at an invented site. Nothing here is anybody's data."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, date, datetime
from typing import Any

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.devices.simulated.camera_model import SensorModel
from grayshelf.devices.simulated.rig import RigModel, WorldState
from grayshelf.devices.simulated.train_model import DustSpeck, PanelModel, TrainModel, TwilightModel

#: 01:12 by the clock on the wall, in the night of 18 October 2026.
START = datetime(2026, 10, 19, 0, 12, tzinfo=UTC)
SITE = {"name": "Saltmarsh hide", "latitude": 52.95, "longitude": 0.95, "time_zone": "Europe/London"}
SIZES = {"tiny": (320, 214), "small": (1600, 1068), "full": (6000, 4000)}


def _size(size: str, share: float = 1.0) -> tuple[int, int]:
    width, height = SIZES[size]
    return int(width * share) // 2 * 2, int(height * share) // 2 * 2


def _twilight(e_s: float, through: dict[str, float]) -> TwilightModel:
    """The sky over the site: the sun is 5° below the horizon at 18:22 and at 07:01 by the clock on the wall."""
    return TwilightModel(
        dusk=datetime(2026, 10, 18, 17, 22, tzinfo=UTC),
        dawn=datetime(2026, 10, 19, 6, 1, tzinfo=UTC),
        e_s=e_s,
        per_min=0.145,
        through=through,
        dusk_later_s=-125.0,
        dawn_later_s=105.0,
    )


def heron(size: str) -> RigModel:
    """Heron 92 with Dunlin M24."""
    width, height = _size(size)
    return RigModel(
        SensorModel("Dunlin M24", width, height, 3.9, seed=24),
        TrainModel(
            "Heron 92",
            92.0,
            506.0,
            0.27,
            (0.06, 0.03),
            (
                DustSpeck(0.23, 0.31, 62, 0.09, "window"),
                DustSpeck(0.71, 0.64, 54, 0.06, "window"),
                DustSpeck(0.46, 0.79, 150, 0.05, "filter", "SII"),
                DustSpeck(0.58, 0.22, 140, 0.06, "filter", "Ha"),
                DustSpeck(0.36, 0.55, 145, 0.04, "filter", "OIII"),
                DustSpeck(0.15, 0.72, 420, 0.03, "telescope"),
                DustSpeck(0.83, 0.28, 380, 0.025, "telescope"),
            ),
        ),
        PanelModel(7.44e6),
        ("L", "R", "G", "B", "Ha", "OIII", "SII"),
        {"L": 1.0, "R": 0.214, "G": 0.280, "B": 0.246, "Ha": 0.00077, "OIII": 0.00108, "SII": 0.00060},
        {"L": 12.0, "R": 4.0, "G": 4.2, "B": 3.4, "Ha": 0.40, "OIII": 0.52, "SII": 0.34},
        twilight=_twilight(
            5_000.0, {"L": 1.0, "R": 0.31, "G": 0.27, "B": 0.34, "Ha": 0.0112, "OIII": 0.0094, "SII": 0.0105}
        ),
    )


def bittern(size: str) -> RigModel:
    """Bittern 200 with Dunlin C14."""
    width, height = _size(size, 0.75)
    return RigModel(
        SensorModel(
            "Dunlin C14",
            width,
            height,
            4.6,
            seed=14,
            sample_step=4,
            bayer_pattern="RGGB",
            full_well_e=42_000.0,
            e_per_adu_at_zero_gain=0.66,
            conversion_switch_gain=120.0,
            unrepeatable_below_s=1.5,
        ),
        TrainModel(
            "Bittern 200",
            200.0,
            800.0,
            0.38,
            (-0.04, 0.07),
            (DustSpeck(0.62, 0.41, 48, 0.10, "window"), DustSpeck(0.3, 0.68, 300, 0.04, "telescope")),
            8_400.0,
        ),
        PanelModel(7.44e6),
        ("Duo",),
        {"Duo": 0.0021},
        {"Duo": 1.1},
        twilight=_twilight(14_000.0, {"Duo": 0.044}),
    )


def wader(size: str) -> RigModel:
    """The 60 mm lens with Plover, an uncooled camera."""
    width, height = _size(size, 0.7)
    return RigModel(
        SensorModel(
            "Plover",
            width,
            height,
            5.4,
            seed=60,
            sample_step=4,
            bayer_pattern="GRBG",
            cooled=False,
            e_per_adu_at_zero_gain=2.2,
            conversion_switch_gain=9_999.0,
            read_noise_low_e=4.6,
            dark_e_s_at_minus_10=0.012,
        ),
        TrainModel("Wader", 15.0, 60.0, 0.45, (0.0, 0.02), (DustSpeck(0.44, 0.3, 40, 0.12, "window"),), 0.0),
        PanelModel(1.0e6),
        ("none",),
        {"none": 0.02},
        {"none": 9.0},
        air_c=12.0,
    )


MODELS = {"heron": heron, "bittern": bittern, "wader": wader}
#: Where Heron stands when the demo starts: the last lights, in SII, have just ended.
HERON_NOW = WorldState(wheel=6, focus=12_140.0, angle_deg=91.2, sensor_c=-10.0, set_point_c=-10.0)

FILTERS: dict[str, list[tuple[str, str, float | None, float | None, int | None]]] = {
    "heron": [
        ("L", "Luminance", 550, 300, 20),
        ("R", "Red", 640, 90, 20),
        ("G", "Green", 530, 80, 20),
        ("B", "Blue", 450, 90, 20),
        ("Ha", "Hydrogen alpha", 656.3, 3, 60),
        ("OIII", "Oxygen III", 500.7, 3, 60),
        ("SII", "Sulphur II", 672.4, 3, 60),
    ],
    "bittern": [("Duo", "Dual band", 580, 14, 90)],
    "wader": [],
}

FOCUS = {"L": 12_000, "R": 12_020, "G": 11_985, "B": 12_010, "Ha": 12_110, "OIII": 12_060, "SII": 12_140}

RIGS: list[dict[str, Any]] = [
    {
        "name": "Heron 92",
        "camera": "Dunlin M24",
        "telescope": "Heron 92",
        "aperture_mm": 92.0,
        "focal_length_mm": 506.0,
        "devices": "heron",
        "source": "Lumen tile",
        "traits": {"read_noise_e": 1.6, "dark_rate_e_s": 0.0022, "dark_rate_at_c": -10.0, "assumed": False},
        "events": [(datetime(2026, 10, 11, 15, 0, tzinfo=UTC), "the camera was turned", "train")],
    },
    {
        "name": "Bittern 200",
        "camera": "Dunlin C14",
        "telescope": "Bittern 200",
        "aperture_mm": 200.0,
        "focal_length_mm": 800.0,
        "devices": "bittern",
        "source": "Lumen tile",
        "wishes": {"shortest_s": 1.5, "shortest_reason": "the camera does not repeat below it"},
        "events": [(datetime(2026, 9, 19, 14, 0, tzinfo=UTC), "the reducer was re-spaced", "spacing")],
    },
    {
        "name": "Wader",
        "camera": "Plover",
        "telescope": "Wader",
        "aperture_mm": 15.0,
        "focal_length_mm": 60.0,
        "devices": None,
        "wishes": {"shortest_s": 0.02, "shortest_reason": "the shutter shades shorter ones"},
        "source": "Lit wall",
        "events": [],
    },
]

#: The lights: a dimmable panel with two cloths and a neutral film, and a wall.
SOURCES: list[dict[str, Any]] = [
    {
        "name": "Lumen tile",
        "dimmable": True,
        "lowest": 18,
        "highest": 255,
        "pulse_hz": 240.0,
        "duty": 0.4,
        "diffusers": [
            {"name": "white cloth", "stops": 0.8},
            {"name": "thick cloth", "stops": 1.2},
            {"name": "neutral film", "stops": 2.0},
        ],
    },
    {"name": "Lit wall", "dimmable": False, "diffusers": []},
]

#: What is noted of the nights: air at dusk and dawn, seeing, humidity, moon, words.
LOGS: list[tuple[str, date, dict[str, Any], str]] = [
    (
        "Heron 92",
        date(2026, 10, 18),
        {
            "air_from_c": 9.0,
            "air_to_c": 3.6,
            "seeing_arcsec": 2.4,
            "humidity_percent": 81,
            "moon_percent": 50,
        },
        "Train turned to 91.2° on the 11th and left alone since. Dew on the front lens towards one; heater up.",
    ),
    (
        "Heron 92",
        date(2026, 10, 17),
        {
            "air_from_c": 11.0,
            "air_to_c": 6.2,
            "seeing_arcsec": 2.9,
            "humidity_percent": 74,
            "moon_percent": 41,
        },
        "L flats given up: the tile would not go dim enough. R and G shot.",
    ),
    (
        "Heron 92",
        date(2026, 10, 16),
        {
            "air_from_c": 10.0,
            "air_to_c": 7.5,
            "seeing_arcsec": 3.3,
            "humidity_percent": 88,
            "moon_percent": 32,
        },
        "Haze from two. Three frames of M 33 rejected.",
    ),
    (
        "Heron 92",
        date(2026, 10, 11),
        {"air_from_c": 8.0, "air_to_c": 2.1, "seeing_arcsec": 2.2, "humidity_percent": 69, "moon_percent": 2},
        "Camera turned by a quarter in the afternoon, to frame NGC 6888.",
    ),
    (
        "Heron 92",
        date(2026, 10, 9),
        {"air_from_c": 9.5, "air_to_c": 5.0, "seeing_arcsec": 2.6, "humidity_percent": 77, "moon_percent": 3},
        "Across the meridian at half past one.",
    ),
    (
        "Heron 92",
        date(2026, 10, 3),
        {
            "air_from_c": 19.0,
            "air_to_c": 15.5,
            "seeing_arcsec": 2.8,
            "humidity_percent": 70,
            "moon_percent": 48,
        },
        "Too warm for −10 °C.",
    ),
    (
        "Heron 92",
        date(2026, 10, 2),
        {
            "air_from_c": 20.5,
            "air_to_c": 16.0,
            "seeing_arcsec": 2.5,
            "humidity_percent": 66,
            "moon_percent": 58,
        },
        "Too warm for −10 °C.",
    ),
    (
        "Bittern 200",
        date(2026, 8, 28),
        {
            "air_from_c": 16.0,
            "air_to_c": 11.0,
            "seeing_arcsec": 2.7,
            "humidity_percent": 72,
            "moon_percent": 99,
        },
        "First night after the summer.",
    ),
    (
        "Bittern 200",
        date(2026, 9, 26),
        {
            "air_from_c": 13.0,
            "air_to_c": 8.0,
            "seeing_arcsec": 2.4,
            "humidity_percent": 79,
            "moon_percent": 99,
        },
        "Across the meridian; no rotator, so the sky angle changes by 180°.",
    ),
]


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
        # Lights of Heron 92.
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
        # Flats of 2 October (with the camera at 2.4°) and 11 October; SII never.
        *_flat_master("2026-10-03T01:10", "Ha", 200, 4.6, 60, 2.4),
        *_flat_master("2026-10-12T00:40", "OIII", 200, 3.3, 60, 91.2),
        *_flat_master("2026-10-12T00:55", "Ha", 200, 4.6, 60, 91.2),
        *_flat_master("2026-10-12T01:10", "B", 100, 0.68, 20, 91.2),
        # Raw flats of 17 October, not combined yet; one frame among R went through G.
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
        # Bittern 200: another dialect, no rotator, a meridian flip, a re-spaced reducer, a leak.
        *_bittern(),
        # Wader: ISO for gain, no cooler.
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
