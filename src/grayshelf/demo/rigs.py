"""The invented rigs: their models, filters, lights and logs."""

from __future__ import annotations

from datetime import UTC, date, datetime
from typing import Any

from grayshelf.devices.simulated.camera_model import SensorModel
from grayshelf.devices.simulated.rig import RigModel, WorldState
from grayshelf.devices.simulated.train_model import DustSpeck, PanelModel, TrainModel, TwilightModel

#: 01:12 by the clock on the wall, in the night of 18 October 2026.
START = datetime(2026, 10, 19, 0, 12, tzinfo=UTC)
SITE = {"name": "Saltmarsh hide", "latitude": 52.95, "longitude": 0.95, "time_zone": "Europe/London"}
SIZES = {"tiny": (320, 214), "small": (1600, 1068), "full": (6000, 4000)}
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
        "camera_card": {
            "cooled": True,
            "below_air_c": 35.0,
            "read_noise_e": 1.6,
            "dark_rate_e_s": 0.0022,
            "dark_rate_at_c": -10.0,
        },
        "parts": {
            "cover": {"name": "Push-on cap", "moved_by": "hand"},
            "mount": {"name": "Pier in the garden"},
        },
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
        "camera_card": {"cooled": True, "below_air_c": 35.0, "repeatable_from_s": 1.5},
        "parts": {"rotator": {"moved_by": "absent"}},
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
        "camera_card": {"cooled": False, "gain_word": "ISO", "shutter": "curtain"},
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
    {"name": "Lit wall", "kind": "wall", "dimmable": False, "diffusers": []},
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


#: By the name under which a rig has its devices.
MODELS = {"heron": heron, "bittern": bittern, "wader": wader}
