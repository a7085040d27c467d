"""Rigs proposed from headers: names that are one thing, that may be, and that are not; trains told by focal length."""

from __future__ import annotations

import random

import pytest

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.rigs.names import CENTRE_NM, Alike, alike, filters_alike, place_in_wheel, read_filter_name
from grayshelf.core.rigs.propose import Decided, Join, NameOf, Seen, propose
from grayshelf.core.rigs.trains import NewTrain, SeenTrain, Train, new_trains, same_train, train_of

LIGHT, FLAT, DARK = FrameKind.LIGHT, FrameKind.FLAT, FrameKind.DARK


@pytest.mark.parametrize(("one", "other", "how"), [
    ("Heron 26M", "HERON-26M", Alike.SAME), ("Heron26M", "heron 26 m", Alike.SAME), ("Réfracteur", "Refracteur", Alike.SAME),
    ("Heron 26M", "Heron 26M (driver 2)", Alike.MAYBE), ("Refractor", "Refracter", Alike.MAYBE),
    ("Refractor", "Refratcor", Alike.MAYBE), ("Alder", "Alder 80", Alike.MAYBE), ("Heron 26M", "Heron 26C", Alike.OTHER),
    ("Heron 26M", "Heron 26MM", Alike.OTHER), ("Alder 80", "Alder 81", Alike.OTHER), ("Newt", "Newts", Alike.OTHER),
    ("Station A", "Station B", Alike.OTHER), ("80 mm", "80 mm f/6", Alike.OTHER), ("Heron", "", Alike.OTHER), ("§§", "§", Alike.OTHER), ("Refractor", "Reflector", Alike.OTHER),
])  # fmt: skip
def test_a_name_is_the_same_may_be_or_is_another(one, other, how):
    assert alike(one, other) is alike(other, one) is how


@pytest.mark.parametrize(("name", "code", "width"), [
    ("Hα 7 nm", "Ha", 7.0), ("Ha_3nm", "Ha", 3.0), ("H-Alpha 2in", "Ha", None), ("Slot 3: Ha", "Ha", None), ("#2 Red", "R", None),
    ("L (1)", "L", None), ("1-L", "L", None), ("Luminance filter", "L", None), ("Grün", "G", None), ("Bleu", "B", None),
    ("SII 6.5nm", "SII", 6.5), ("Oxygen III", "OIII", None), ('O3 1.25"', "OIII", None), ("H-beta", "Hb", None),
    ("L 400-700 nm", "L", 300.0), ("400nm – 700nm L", "L", 300.0), ("2-inch OIII 4.5 nm", "OIII", 4.5),
    ("Dual Band", None, None), ("1", None, None), ("UV/IR cut", None, None), ("L-Soft", None, None),
])  # fmt: skip
def test_a_filters_name_gives_its_code_and_its_width(name, code, width):
    read = read_filter_name(name)
    assert (read.code, read.width_nm) == (code, width)
    assert code is None or code in CENTRE_NM


@pytest.mark.parametrize(("one", "other", "how"), [
    ("Ha", "H-alpha 2in", Alike.SAME), ("Ha", "Ha 7nm", Alike.MAYBE), ("Ha 7nm", "H_alpha 7 nm", Alike.SAME),
    ("Ha 7nm", "Ha 3nm", Alike.OTHER), ("Dualband", 'dual band 2"', Alike.SAME), ("1", "2", Alike.OTHER), ("1", "L", Alike.OTHER),
    ("Filter 1", "Filter 2", Alike.OTHER), ("R", "Red", Alike.SAME), ("L", "L-Soft", Alike.OTHER), ("g'", "G", Alike.OTHER), ("r'", "R", Alike.OTHER), ("Deep Nebula", "Nebula", Alike.MAYBE),
    ("Photometric Rc", "Photometric Ic", Alike.OTHER), ("Sloan g'", "Sloan r'", Alike.OTHER), ("Skyglow", "Skyglov", Alike.MAYBE),
])  # fmt: skip
def test_filters_of_one_wheel(one, other, how):
    assert filters_alike(one, other) is filters_alike(other, one) is how


def test_filters_stand_as_in_a_wheel():
    codes = ["B", "Ha 3nm", "L", "City", "OIII", "R", "G", "SII"]
    assert sorted(codes, key=place_in_wheel) == ["L", "R", "G", "B", "Ha 3nm", "OIII", "SII", "City"]


def joined(proposal):
    return {(j.about, j.camera, j.spelled): j.name for j in proposal.joins}


def asked(proposal):
    return [(d.join.about, d.join.spelled, d.join.name) for d in proposal.doubts]


def test_names_are_joined_only_where_nothing_speaks_against_it():
    heron = Seen("Heron 26M", "Alder 80", "Ha", LIGHT, 530.0, 3.76, None, 100)
    seen = [
        heron,
        Seen("HERON-26M", "alder80", "H-alpha", LIGHT, 531.0, 3.76, None, 40),
        Seen("Heron 26M", None, "Ha", FLAT, 530.0, 3.76, None, 20),
        # The same letters, and a colour sensor with other pixels.
        Seen("heron 26m", "Alder 80", None, LIGHT, 530.0, 9.0, "RGGB", 5),
        # Capped frames of a colour camera are often written without its pattern: no sign of another.
        Seen("HERON-26M", None, None, DARK, None, 3.76, None, 9),
        Seen("Heron 26M drv", "Alder 80", "Ha 7nm", LIGHT, 530.0, 3.76, None, 7),
        Seen("Kite 9", None, "1", LIGHT, None, 2.4, None, 50),
        Seen("Kite 9", None, "2", LIGHT, None, 2.4, None, 50),
    ]
    found = propose(seen)
    assert joined(found) == {
        (NameOf.CAMERA, "", "HERON-26M"): "Heron 26M",
        (NameOf.TELESCOPE, "Heron 26M", "alder80"): "Alder 80",
        # Flats that name none, of the one telescope's focal length.
        (NameOf.TELESCOPE, "Heron 26M", ""): "Alder 80",
        (NameOf.FILTER, "Heron 26M", "H-alpha"): "Ha",
    }
    assert asked(found) == [
        (NameOf.CAMERA, "Heron 26M drv", "Heron 26M"),
        (NameOf.CAMERA, "heron 26m", "Heron 26M"),
    ]
    assert "3.76 µm" in found.doubts[0].why and "pixels or colours" in found.doubts[1].why
    # What was decided is not decided again, and a person's 'two' ends the question.
    two = frozenset({(NameOf.CAMERA, "", frozenset({"Heron 26M drv", "Heron 26M"}))})
    again = propose(seen, Decided(found.joins, two))
    assert again.joins == () and asked(again) == [(NameOf.CAMERA, "heron 26m", "Heron 26M")]


def test_two_rigs_that_are_there_are_never_joined_unasked():
    seen = [
        Seen("Kite", "Alder", frames=9),
        Seen("KITE", "Alder", frames=90),
        Seen("k-i-t-e", "Alder", frames=1),
    ]
    decided = Decided(rigs=(("Kite", "Alder"), ("KITE", "Alder")))
    found = propose(seen, decided)
    assert asked(found) == [(NameOf.CAMERA, "Kite", "KITE")] and "each has a rig" in found.doubts[0].why
    assert joined(found) == {(NameOf.CAMERA, "", "k-i-t-e"): "KITE"}


@pytest.mark.parametrize(("blank_mm", "sure"), [(530.0, True), (None, None), (400.0, False)])
def test_frames_that_name_no_telescope(blank_mm, sure):
    """Sure by the focal length, asked where none is given, and another train where it differs."""
    found = propose(
        [Seen("K", "Alder", None, LIGHT, 530.0), Seen("K", None, None, LIGHT, blank_mm, frames=3)]
    )
    join = Join(NameOf.TELESCOPE, "K", "", "Alder")
    assert (join in found.joins) is (sure is True)
    assert (join in [d.join for d in found.doubts]) is (sure is None)
    # With two telescopes nobody can tell.
    both = propose(
        [
            Seen("K", "Alder", None, LIGHT, 530.0),
            Seen("K", "Birch", None, LIGHT),
            Seen("K", None, None, LIGHT, 530.0),
        ]
    )
    assert both.joins == ()


def test_a_filter_is_asked_about_where_one_name_says_its_width():
    found = propose(
        [
            Seen("K", "A", "Ha", LIGHT, frames=9),
            Seen("K", "A", "Ha 7nm", FLAT, frames=20),
            Seen("K", "A", "Ha 3nm", LIGHT),
        ]
    )
    assert found.joins == ()
    assert asked(found) == [(NameOf.FILTER, "Ha", "Ha 7nm"), (NameOf.FILTER, "Ha 3nm", "Ha")]
    # What has settings of its own is never another unasked; what has none joins it.
    seen = [
        Seen("K", "A", "Dual Band", LIGHT, frames=50),
        Seen("K", "A", "dualband", LIGHT, frames=9),
        Seen("K", "A", "DUAL-BAND", FLAT),
    ]
    kept = propose(seen, Decided(filters=(("K", "dualband"), ("K", "Dual Band"))))
    assert (
        asked(kept) == [(NameOf.FILTER, "dualband", "Dual Band")]
        and "something is kept" in kept.doubts[0].why
    )
    assert joined(kept) == {(NameOf.FILTER, "K", "DUAL-BAND"): "Dual Band"}
    # Of another camera it is another wheel.
    assert propose([Seen("K", "A", "Ha", LIGHT), Seen("Pelican 4", "A", "H alpha", LIGHT)]).joins == ()


def test_20000_headers_of_3_cameras_4_trains_and_12_filters_in_30_spellings():
    """It joins what a person would, and leaves apart what is apart."""
    rng = random.Random(4)
    cameras = {
        "Heron 26M": ["Heron 26M", "HERON-26M", "heron 26m"],
        "Kite 9C": ["Kite 9C", "KITE9C"],
        "Osprey": ["Osprey"],
    }
    filters = {
        "L": ["L", "Lum", "Luminance", "1-L"], "R": ["R", "Red"], "G": ["G", "Green", "Grün"], "B": ["B", "blue"],
        "Ha": ["Ha", "H-alpha", "Hα", "HA"], "OIII": ["OIII", "O3", "O-III"], "SII": ["SII", "S2"], "Hb": ["Hb", "H-beta"],
        "Nebula": ["Nebula", "nebula"], "Dualband": ["Dualband", "Dual Band"], "City": ["City", "city filter"], "NII": ["NII", "N2"],
    }  # fmt: skip
    assert sum(map(len, filters.values())) == 30
    trains = {
        "Heron 26M": [("Alder 80", 530.0), ("Alder 80", 424.0)],
        "Kite 9C": [("Birch", 1000.0)],
        "Osprey": [("Cedar", 200.0)],
    }
    rows = []
    for n in range(20_000):
        camera = list(cameras)[n % 3]
        telescope, mm = trains[camera][n // 3 % len(trains[camera])]
        code = list(filters)[n % 12]
        spelled = rng.choices([telescope, telescope.upper()], (3, 1))[0]
        name = rng.choices(filters[code], range(len(filters[code]), 0, -1))[0]
        camera_name = rng.choices(cameras[camera], range(len(cameras[camera]), 0, -1))[0]
        rows.append(Seen(camera_name, spelled, name, LIGHT, mm + rng.uniform(-1, 1), 3.76))
    found = propose(rows)
    assert found.doubts == ()
    to = joined(found)
    own = {c: to.get((NameOf.CAMERA, "", c), c) for row in rows for c in [row.camera]}
    assert {own[s] for s in cameras["Heron 26M"]} == {"Heron 26M"} and len(set(own.values())) == 3
    for camera in set(own.values()):
        here = {row.filter_name for row in rows if own[row.camera] == camera}
        kept = {to.get((NameOf.FILTER, camera, name), name) for name in here}
        assert len(kept) == len({code for code, names in filters.items() if here & set(names)})
        telescopes = {row.telescope for row in rows if own[row.camera] == camera}
        assert len({to.get((NameOf.TELESCOPE, camera, name), name) for name in telescopes}) == 1
    seen = [
        SeenTrain(
            own[r.camera],
            to.get((NameOf.TELESCOPE, own[r.camera], r.telescope), r.telescope),
            LIGHT,
            r.focal_length_mm,
        )
        for r in rows
    ]
    made = new_trains(seen, [])
    assert len(made) == 4 and [t.reduced for t in made].count(True) == 1


TRAINS = [
    Train(1, "K", "Alder 80", 530.0),
    Train(2, "K", "ALDER-80", 424.0),
    Train(3, "K", None, None),
    Train(4, "P", "Alder 80", None),
]


@pytest.mark.parametrize(("camera", "telescope", "mm", "rig"), [
    ("K", "alder 80", 528.0, 1), ("K", "Alder 80", 430.0, 2), ("K", "Alder 80", 470.0, 2), ("K", "Alder 80", 480.0, 1),
    ("K", "Alder 80", None, 1), ("K", None, 424.0, 3), ("K", "Birch", 530.0, None), ("P", "Alder 80", 9.0, 4), ("X", None, None, None),
])  # fmt: skip
def test_a_frame_belongs_to_the_train_of_the_nearest_focal_length(camera, telescope, mm, rig):
    assert train_of(TRAINS, camera, telescope, mm) == rig


def test_a_train_of_no_known_focal_length_takes_what_fits_no_other():
    trains = [Train(1, "K", "A", None), Train(2, "K", "A", 400.0)]
    assert [train_of(trains, "K", "A", mm) for mm in (400.0, 380.0, 500.0, None)] == [2, 2, 1, 1]
    assert same_train(None, 400.0) and same_train(500.0, 470.0) and not same_train(500.0, 455.0)


def test_trains_that_are_not_there_yet():
    seen = [
        SeenTrain("K", "A", FLAT, 424.0), SeenTrain("K", "A", LIGHT, 530.0, 80.0), SeenTrain("K", "a", LIGHT, 505.0),
        SeenTrain("K", None, DARK), SeenTrain("P", None, DARK), SeenTrain("K", "B", LIGHT),
    ]  # fmt: skip
    assert new_trains(seen, []) == [
        NewTrain("K", "A", 530.0, 80.0), NewTrain("K", "B", None, None), NewTrain("K", "A", 424.0, None, reduced=True),
        NewTrain("P", None, None, None),
    ]  # fmt: skip
    # Of a rig that takes any focal length, or that a person said is one train, nothing is split off.
    there = [Train(1, "K", "A", None), Train(2, "K", "B", None), Train(3, "P", None, None)]
    assert new_trains(seen, there) == []
    known = [Train(1, "K", "A", 530.0), *there[1:]]
    assert [t.focal_length_mm for t in new_trains(seen, known)] == [424.0] and new_trains(
        seen, known, {1}
    ) == []
