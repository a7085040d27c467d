"""Headers with all that programs and people put into them, read whole; and the sets that are made of such frames."""

from __future__ import annotations

import random
from dataclasses import fields, replace
from datetime import date
from zoneinfo import ZoneInfo

import pytest
from astropy.io import fits

from grayshelf.core.checks.asked_for import AskedFor, all_wrong
from grayshelf.core.frames.facts import FrameFacts, lacking
from grayshelf.core.frames.fits_blocks import ImageHeader
from grayshelf.core.frames.headers import read_facts
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.said import Saying, in_words, unsaid, with_said
from grayshelf.core.frames.sets import Member, common_facts, group_into_sets, set_key
from grayshelf.core.frames.write import frame_header
from tests.told import same_as_told

#: What keywords hold: usual values, and what should not be there.
CARDS = {
    "IMAGETYP": ("Light Frame", "dark", "FLAT", "Master Dark", "Sky Flat", "flatdark", "Bias Frame", "object", "Blob"),
    "FRAME": ("Light", "Dark"),
    "EXPTIME": (300.0, 299.97, 0.004, 2, -1.0, "long", 1e9),
    "EXPOSURE": (60.0, "60"),
    "CCD-TEMP": (-10.2, -9.9, 20.1, -300.0, "cold"),
    "SET-TEMP": (-10.0, 0.0, 99.0),
    "GAIN": (100.0, 0.0, 1600, -5.0, True),
    "ISO": (800,),
    "OFFSET": (30, 0, 12.5, 1e7),
    "XBINNING": (1, 2, 0, 2.0, "1x1"),
    "YBINNING": (1, 2, 40),
    "INSTRUME": ("Kite 9", "  Kite   9 ", "x" * 300, ""),
    "CAMERA": ("Kite 9",),
    "FILTER": ("Lum", "H-alpha", "none", "OIII", "V"),
    "TELESCOP": ("Field lens", "Long tube"),
    "FOCALLEN": (300.0, 0.0, -4.0),
    "ROTATANG": (359.9, 0.2, 91.3, 720.5, "left"),
    "OBJCTROT": (12.0, -12.0),
    "PIERSIDE": ("East", "pierWest", "unknown"),
    "FOCUSPOS": (5000, 5100.5, -1e9),
    "DATE-OBS": ("2026-10-18T21:30:00", "2026-10-19T03:00:00.5Z", "2026-10-18", "1970-01-01T00:00:00", "soon"),
    "TIME-OBS": ("22:00:01",),
    "DATE-LOC": ("2026-10-18T23:30:00", "2026-10-20T23:30:00"),
    "SITELONG": (10.5, "10 30 00", 200.0, 999.0, 0.0),
    "SITELAT": (50.0, 0.0),
    "NCOMBINE": (1, 30),
    "BAYERPAT": ("rggb", " GBRG"),
    "ROWORDER": ("top-down",),
    "READOUTM": ("fast", "Low noise"),
    "CALSTAT": ("BDF", ""),
    "OBJECT": ("NGC 281", ""),
    "PEDESTAL": (100, -70_000),
    "AMBTEMP": (7.0,),
    "XPIXSZ": (3.8, 0.0),
    "EGAIN": (0.8, 0.0),
}  # fmt: skip
NAMES = (
    "a.fits", "Dark_300s_-10C_gain100_0012.fits", "L_0001_flat.fits", "IMG_60s_offset20_bin2.fits", "bias-7.fits",
    "ISO800 2026.fits",
)  # fmt: skip
SAYINGS = (
    Saying(kind=FrameKind.DARK, gain=120.0, on=date(2026, 10, 20)),
    Saying(filter_code="Ha", binning=2, angle_deg=90.0, focus=5000.0, telescope="Long tube"),
    Saying(clock_s=-5400.0, target="M 33", sensor_temp_c=-10.0, exposure_s=60.0, offset=30.0),
    Saying(night=date(2026, 10, 17), is_master=True, camera="Kite 9"),
)
ASKED = (
    AskedFor("Kite 9", "L", 100.0, 1, 30.0, angle_deg=0.0, focus=5000.0, read_mode="fast"),
    AskedFor(
        "Kite 9", "", 120.0, 2, kind=FrameKind.DARK_FLAT, exposure_s=300.0, temp_c=-10.0, gain_word="ISO"
    ),
    AskedFor("Heron", "Ha", None, 1, 12.5, exposure_s=0.004, as_lights=False),
)


def some_facts(rng: random.Random) -> FrameFacts:
    chosen = [name for name in CARDS if rng.random() < rng.choice((0.4, 0.8))]
    header = fits.Header({name: rng.choice(CARDS[name]) for name in chosen})
    image = ImageHeader(header, 4144, 2822, 16, 0, 2880, 9600, False)
    folder = rng.choice(("", "Flats", "darks", "M 33"))
    counters = rng.choice((frozenset(), frozenset({"gain"})))
    return read_facts(image, rng.choice(NAMES), ZoneInfo("Europe/London"), counters, (folder,))


def known(facts: FrameFacts) -> dict[str, object]:
    """What is not as where nothing is known."""
    plain = FrameFacts(4144, 2822, 16)
    return {f.name: v for f in fields(facts) if (v := getattr(facts, f.name)) != getattr(plain, f.name)}


@pytest.mark.parametrize("seed", range(40))
def test_a_header_of_all_kinds_is_read_as_it_was(seed):
    rng = random.Random(seed)
    facts = some_facts(rng)
    saying = rng.choice(SAYINGS)
    told = with_said(replace(facts, said=saying.to_plain()))
    changed = {name: v for name, v in known(told).items() if v != getattr(facts, name)}
    assert unsaid(told) == replace(facts, said=saying.to_plain())
    # As HISTORY and the like are written at the time they are, only plain cards are held.
    cards = [str(c).rstrip() for c in frame_header(facts).cards]
    wrong = [all_wrong(facts, asked) for asked in ASKED]
    same_as_told(
        "headers", str(seed), [wrong, known(facts), lacking(facts), changed, in_words(saying), cards]
    )


def test_sets_of_such_frames_are_made_as_they_were():
    rng = random.Random(77)
    usable = [f for f in (some_facts(rng) for _ in range(900)) if f.kind is not None and f.camera is not None]
    alike = [
        replace(
            f,
            angle=f.angle,
            sensor_temp_c=rng.choice((-10.0, -9.4, -8.0, None)),
            focus=rng.choice((None, 5.0, 9.0)),
        )
        for f in usable[:24]
        for _ in range(4)
    ]
    sets = group_into_sets([Member(i, f) for i, f in enumerate(alike)])
    told = [
        [[m.frame_id for m in one], str(set_key(one[0].facts)), known(common_facts([m.facts for m in one]))]
        for one in sets
    ]
    same_as_told("headers", "sets", sorted(told, key=lambda one: one[0]))
