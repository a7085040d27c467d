"""Frames of other programs that were shot in one go, though their exposures differ, or noon was between them."""

from __future__ import annotations

import numpy as np
import pytest
from sqlalchemy import select, update

from grayshelf.library.grouping import SETS_ANEW
from grayshelf.library.models import Frame, FrameSet
from tests.helpers import DARK, FLAT, LIGHT, write_fits
from tests.own import Own

RNG = np.random.default_rng(8)
EXPOSURES_S = (2.0, 2.31, 2.67, 3.1, 3.58, 4.13)


@pytest.fixture
def own(tmp_path):
    opened = Own(tmp_path / "library")
    yield opened
    opened.close()


def shoot(path, cards, at, level, noise=6.0):
    pixels = np.clip(RNG.normal(level, noise, (40, 60)), 0, 65535).astype(np.uint16)
    write_fits(path, {**cards, "DATE-OBS": f"2026-10-18T{at}"}, pixels)


def flats(folder, places):
    for i in places:
        told = {**FLAT, "EXPTIME": EXPOSURES_S[i]}
        shoot(folder / f"flat{i}.fits", told, f"17:0{i}:11", 500 + 21_000, 90.0)


def sets_of(own, kind):
    with own.library.db.session() as session:
        query = select(FrameSet).where(FrameSet.kind == kind, ~FrameSet.is_master).order_by(FrameSet.id)
        return [(s.id, s.n_frames) for s in session.scalars(query)]


def test_flats_of_one_twilight_are_one_set_while_they_come_in_and_in_a_library_of_before(own, tmp_path):
    heap = tmp_path / "heap"
    for i in range(3):
        shoot(heap / f"light{i}.fits", LIGHT, f"21:1{i}:00", 900, 20.0)
    for i in range(6):
        shoot(heap / f"bias{i}.fits", {**DARK, "IMAGETYP": "Bias", "EXPTIME": 0.0}, f"12:0{i}:00", 500)
    flats(heap, range(2))
    own.scan(heap)
    assert [n for _, n in sets_of(own, "flat")] == [1, 1], "two say nothing of the light"
    flats(heap, range(2, 6))
    own.scan(heap)
    ((number, n),) = sets_of(own, "flat")
    assert n == 6
    # As a version before left it: a set for each exposure.
    with own.library.db.session() as session:
        for frame in session.scalars(select(Frame).where(Frame.set_id == number)).all()[1:]:
            kept = session.get_one(FrameSet, number)
            one = FrameSet(
                kind="flat", is_master=False, n_frames=1, n_kept=1, facts=kept.facts, camera=kept.camera
            )
            session.add(one)
            session.flush()
            frame.set_id, frame.group_key = one.id, f"a key of before {one.id}"
        session.execute(update(FrameSet).where(FrameSet.id == number).values(n_frames=1, n_kept=1))
        own.library.set_setting(session, SETS_ANEW, {"due": True})
    assert len(sets_of(own, "flat")) == 6
    own.again()
    assert sets_of(own, "flat") == [(number, 6)]
    with own.library.db.session() as session:
        assert not own.library.setting(session, SETS_ANEW, {}).get("due")
    own.build()
    ((lights, _),) = sets_of(own, "light")
    flat, pedestal = own.get(f"/api/lights/{lights}/slip")["lines"][1:]
    assert flat["chosen"]["is_master"] and "6" in flat["chosen"]["detail"]
    assert pedestal["verdict"] == "fits" and "bias" in pedestal["note"]
    assert "Sky flat" in own.get(f"/api/holdings/{flat['chosen']['holding_id']}")["title"]


def test_darks_shot_by_day_are_one_set_though_noon_was_between_them(own, tmp_path):
    """At the site of a new library, UTC; noon is 12:00, and a dark is begun every 310 s."""
    heap = tmp_path / "heap"
    begun = [f"{h:02d}:{m:02d}:00" for h, m in ((11, 40), (11, 46), (11, 52), (11, 57), (12, 2), (12, 8))]
    for i in (4, 5):
        shoot(heap / f"dark{i}.fits", DARK, begun[i], 510)
    own.scan(heap)
    ((_, n),) = sets_of(own, "dark")
    assert n == 2
    for i in range(4):
        shoot(heap / f"dark{i}.fits", DARK, begun[i], 510)
    shoot(heap / "dark of the evening.fits", DARK, "19:00:00", 510)
    own.scan(heap)
    ((number, n),) = sets_of(own, "dark")
    assert n == 7 and own.sets()[number]["night"] == "17 Oct 26"
    own.again()
    assert sets_of(own, "dark") == [(number, 7)]


def test_a_master_keeps_the_steps_of_its_frames_whatever_comes_in_afterwards(own, tmp_path):
    """12 bits in 16: a master has no steps of its own, and one that is held to have others is another driver's."""
    heap = tmp_path / "heap"

    def shifted(name, cards, at, level):
        pixels = np.clip(RNG.normal(level / 16, 1.5, (40, 60)), 0, 4095).astype(np.uint16) * 16
        write_fits(heap / name, {**cards, "DATE-OBS": f"2026-10-18T{at}"}, pixels)

    for i in range(6):
        shifted(f"dark{i}.fits", DARK, f"19:0{i}:00", 510)
    shifted("light.fits", LIGHT, "21:00:00", 900)
    own.scan(heap)
    own.build()
    of_master = "SELECT sample_step, level_adu FROM frame_set WHERE is_master"
    before = own.query(of_master)
    assert before == [(16, None)]
    for i in range(3):
        shifted(f"later{i}.fits", DARK, f"23:0{i}:00", 510)
    own.scan(heap)
    assert own.query(of_master) == before
    ((lights, _),) = sets_of(own, "light")
    dark = own.get(f"/api/lights/{lights}/slip")["lines"][0]
    assert dark["chosen"]["is_master"], dark["note"]
