"""Names of what is handed over: read by other code, as a stacking program would, they pair what the slips pair."""

from __future__ import annotations

import re
from datetime import date

from hypothesis import given
from hypothesis import strategies as st

from grayshelf.core.filing.hand_over import FileThere, LightsAsked, Serving, lay_out
from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.kinds import FrameKind

NIGHTS = [date(2026, 10, 17), date(2026, 10, 18), None]


def facts(kind, filter_code=None, exposure_s=None, gain=100.0, night=None):
    return FrameFacts(60, 40, 16, kind, camera="Kite 9", filter_code=filter_code, exposure_s=exposure_s, gain=gain,
                      offset=20.0, binning_x=1, night=night)  # fmt: skip


def serving(kind, key, filter_code=None, exposure_s=None, gain=100.0, n=2):
    of = facts(kind, filter_code, exposure_s, gain, NIGHTS[0])
    files = tuple(FileThere(hash((kind, key, i)), f"{key}-{i}.FIT", 10) for i in range(n))
    return Serving(kind, key, of, "fits", (), files, n, is_master=n == 1)


@st.composite
def hand_overs(draw):
    """Lights of some nights and filters, each served by one of a few flats and darks, or by nothing."""
    asked = []
    for number in range(draw(st.integers(1, 9))):
        code, exposure = draw(st.sampled_from(["R", "Ha", "r"])), draw(st.sampled_from([60.0, 120.0]))
        gain, night = draw(st.sampled_from([100.0, 200.0])), draw(st.sampled_from(NIGHTS))
        served, lacks = [], []
        for kind, answer in (
            (FrameKind.FLAT, draw(st.sampled_from(["a", "b", None]))),
            (FrameKind.DARK_FLAT, draw(st.sampled_from(["f", "g", None]))),
            (FrameKind.DARK, draw(st.sampled_from(["c", "d", None]))),
            (FrameKind.BIAS, draw(st.sampled_from(["e", None]))),
        ):
            if answer is None:
                lacks.append(kind)
                continue
            key = f"{kind.value}:{answer}:{code if kind is FrameKind.FLAT else ''}:{exposure:g}:{gain:g}"
            n = draw(st.sampled_from([1, 2]))
            known = next((s for a in asked for s in a.serving if s.key == key), None)
            flat, light_s = kind is FrameKind.FLAT, kind in (FrameKind.FLAT, FrameKind.DARK_FLAT)
            served.append(
                known or serving(kind, key, code if flat else None, 1.0 if light_s else exposure, gain, n)
            )
        of = facts(FrameKind.LIGHT, code, exposure, gain, night)
        files = tuple(FileThere(1000 * number + i, f"l{i}.fits", 10) for i in range(draw(st.integers(0, 2))))
        asked.append(LightsAsked(number, of, night, files, tuple(served), tuple(lacks)))
    return asked


def word_in(path):
    found = set(re.findall(r"NIGHT_[0-9A-Za-z-]+", path))
    assert len(found) <= 1, path
    return next(iter(found), "")


@given(hand_overs())
def test_whoever_pairs_by_word_and_settings_pairs_as_the_slips_do(asked):
    laid = lay_out(asked)
    paths = [i.path for i in laid.items]
    assert len({p.lower() for p in paths}) == len(paths), "no two are one, on any system"
    assert all(re.fullmatch(r"[A-Za-z0-9._+/-]+", p) and ".." not in p and len(p) < 200 for p in paths)
    for lights in asked:
        word = laid.words[lights.key]
        for kind, told_apart in (
            (FrameKind.FLAT, lambda f: f.filter_code),
            (FrameKind.DARK, lambda f: (f.exposure_s, f.gain)),
            (FrameKind.BIAS, lambda f: f.gain),
        ):
            # By its name alone: frames of the kind that bear its word or none, and are set as it is.
            paired = {
                i.file.frame_id
                for i in laid.items
                if i.path.startswith(("bias" if kind is FrameKind.BIAS else f"{kind.value}s") + "/")
                and word_in(i.path) in ("", word)
                and told_apart(i.facts) == told_apart(lights.facts)
            }
            meant = {f.frame_id for s in lights.serving if s.kind is kind for f in s.files}
            assert paired == meant, (kind, paths)
        # Dark flats are taken with the flats of their word, by exposure and gain.
        flat = next((s.facts for s in lights.serving if s.kind is FrameKind.FLAT), None)
        if flat is not None:
            paired = {
                i.file.frame_id
                for i in laid.items
                if i.path.startswith("dark_flats/")
                and word_in(i.path) == word
                and (i.facts.exposure_s, i.facts.gain) == (flat.exposure_s, flat.gain)
            }
            meant = {f.frame_id for s in lights.serving if s.kind is FrameKind.DARK_FLAT for f in s.files}
            assert paired == meant, paths


def test_one_night_one_word_and_a_letter_where_the_camera_was_turned():
    red = facts(FrameKind.LIGHT, "R", 60.0, night=NIGHTS[1])
    first, second = (serving(FrameKind.FLAT, key, "R", 1.0, n=1) for key in "ab")
    dark = serving(FrameKind.DARK, "d", None, 60.0, n=1)
    asked = [
        LightsAsked(1, red, NIGHTS[1], (FileThere(1, "x.fit", 1),), (first, dark)),
        LightsAsked(2, red, NIGHTS[1], (FileThere(2, "y.fits.fz", 1),), (second, dark)),
        LightsAsked(3, red, NIGHTS[0], (FileThere(3, "z.fits", 1),), (second, dark)),
    ]
    assert [i.path for i in lay_out(asked).items] == [
        "lights/NIGHT_2026-10-18/NIGHT_2026-10-18_light_R_60s_g100_o20_bin1_0001.fit",
        "flats/NIGHT_2026-10-18/NIGHT_2026-10-18_master_flat_R_1s_g100_o20_bin1_2026-10-17_1.fit",
        "darks/master_dark_60s_g100_o20_bin1_2026-10-17_1.fit",
        "lights/NIGHT_2026-10-18b/NIGHT_2026-10-18b_light_R_60s_g100_o20_bin1_0001.fits.fz",
        "flats/NIGHT_2026-10-18b/NIGHT_2026-10-18b_master_flat_R_1s_g100_o20_bin1_2026-10-17_1.fit",
        "lights/NIGHT_2026-10-17/NIGHT_2026-10-17_light_R_60s_g100_o20_bin1_0001.fits",
        "flats/NIGHT_2026-10-17/NIGHT_2026-10-17_master_flat_R_1s_g100_o20_bin1_2026-10-17_1.fit",
    ]
