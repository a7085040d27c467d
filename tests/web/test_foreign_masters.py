"""Masters and stacks that other programs made, among the frames that they were made of."""

from __future__ import annotations

from tests.helpers import write_fits
from tests.waiting import asked_until
from tests.web.foreign_frames import MONO, RNG, at, capped, flat, shoot, slips_of
from tests.web.test_intake import own, scan, wait  # noqa: F401


def test_a_master_bears_the_time_of_its_first_frame(own, tmp_path):  # noqa: F811
    from astropy.io import fits

    shoot(tmp_path / "f", "d", 5, at(10, 12), **capped())
    scan(own, tmp_path / "f")
    wait(own, own.post("/api/builds", json={"set_ids": None}).json)
    master = next(s for s in own.get("/api/sets?kind=dark").json["items"] if s["state"] == "master")
    header = fits.getheader(own.get(f"/api/holdings/{master['id']}").json["file"])
    assert header["DATE-OBS"].startswith("2025-03-10T12:00:00")
    assert header["DATE-END"].startswith("2025-03-10T12:16:40")


def test_a_master_flat_in_shares_of_full_scale_does_not_tell_that_its_pedestal_is_off(own, tmp_path):  # noqa: F811
    shoot(tmp_path / "f", "l", 6, at(10, 22), noise=40)
    told = {**MONO, **flat(), "IMAGETYP": "Master Flat", "NCOMBINE": 20, "DATE-OBS": "2025-03-10T12:30:00"}
    cards = {k: v for k, v in told.items() if v is not None}
    write_fits(tmp_path / "f" / "flat of all.fits", cards, RNG.normal(0.37, 0.001, (24, 32)).astype("f4"))
    scan(own, tmp_path / "f")
    asked_until(lambda: own.get("/api/jobs").json["alive"], lambda alive: not alive)
    _, light_falls, pedestal = [line for *_, line, _ in slips_of(own)]
    assert light_falls["chosen"]["is_master"] and pedestal["verdict"] == "nothing fits"


def test_masters_of_other_programs_are_known_by_their_names_and_need_not_tell_their_number(own, tmp_path):  # noqa: F811
    shoot(tmp_path / "f", "l", 6, at(10, 22), noise=40)

    def master(name, level, **cards):
        told = {k: v for k, v in {**MONO, **cards}.items() if v is not None}
        pixels = RNG.normal(level, level / 400.0, (24, 32)).astype("f4")
        write_fits(
            tmp_path / "f" / name, {**told, "DATE-OBS": at(9, 12).replace(tzinfo=None).isoformat()}, pixels
        )

    master("MasterDark_240s.fits", 500.0, **capped())
    master("superbias.fits", 480.0, **capped("BIAS", EXPOSURE=0.0))
    # Divided by its own level: whoever did that took the pedestal off first.
    master("Master Flat Ha.fits", 1.0, **flat())
    scan(own, tmp_path / "f")
    asked_until(lambda: own.get("/api/jobs").json["alive"], lambda alive: not alive)
    sets = {s["kind"]: (s["state"], s["id"]) for s in own.get("/api/sets").json["items"]}
    assert (sets["dark"][0], sets["bias"][0]) == ("master", "master")
    dark, light_falls, pedestal = [line for *_, line, _ in slips_of(own)]
    assert light_falls["chosen"]["is_master"] and light_falls["verdict"] == pedestal["verdict"] == "fits"
    assert pedestal["note"] == "already taken off in the master flat"
    assert dark["verdict"] == "fits" and dark["chosen"]["reasons"] == []
    assert dark["chosen"]["detail"].startswith("? frames, ")
    card = own.get(f"/api/holdings/{sets['dark'][1]}").json
    assert (card["spine"]["frames_text"], card["spine"]["care"]) == ("?", [])
    assert card["subtitle"].startswith("? frames of ") and "of how many frames, is not known" in card["made"]


def test_a_master_flat_of_another_program_stands_before_the_loose_frames_that_it_was_made_of(own, tmp_path):  # noqa: F811
    folder = tmp_path / "f"
    shoot(folder, "l", 6, at(10, 22), noise=40, EGAIN=1.0)
    shoot(folder, "fl", 20, at(10, 12, 30), level=41_000, noise=90, step_s=5, **flat(EGAIN=1.0))
    # It does not tell of how many: of those that are here.
    told = {**MONO, **flat(EGAIN=1.0), "IMAGETYP": "Master Flat"}
    cards = {k: v for k, v in told.items() if v is not None} | {"DATE-OBS": "2025-03-10T12:30:00"}
    write_fits(folder / "flat of all.fits", cards, RNG.normal(1.0, 0.002, (24, 32)).astype("f4"))
    scan(own, folder)
    asked_until(lambda: own.get("/api/jobs").json["alive"], lambda alive: not alive)
    (chosen,) = [line for *_, line, _ in slips_of(own) if line["kind"] == "flat"]
    assert chosen["chosen"]["is_master"] and chosen["runners_up"][0]["lost_on"] == "not combined yet"
    assert chosen["chosen"]["detail"].startswith("20 frames, ")


def test_a_stack_beside_its_lights_is_none_of_them(own, tmp_path):  # noqa: F811
    """As a telescope that stacks by itself leaves it: the same kind, night and settings."""
    folder = tmp_path / "f"
    shoot(folder, "l", 6, at(10, 22), noise=40)
    shoot(folder, "stack", 1, at(10, 22), noise=10, STACKCNT=6)
    scan(own, folder)
    titles = {x["title"].rpartition(", ")[2]: x["n_frames"] for x in own.get("/api/sets").json["items"]}
    assert titles["stack of 6"] == 1 and sorted(titles.values()) == [1, 6]
    (night,) = own.get("/api/rigs/1/nights").json["nights"]
    assert (night["taken"], night["kept"]) == (6, 6)
    handed = own.get(f"/api/hand-over?rig_id=1&night={night['night']}").json["files"]
    assert len(handed) == 6 and not any("stack" in f["source"] for f in handed)


def test_what_an_observatory_calibrated_before_is_told_by_its_header(own, tmp_path):  # noqa: F811
    """Raw and calibrated copies side by side, a master flat without its pedestal, and a dark without its bias."""
    folder = tmp_path / "f"
    shoot(folder, "raw", 4, at(10, 22), noise=40)
    shoot(folder, "cal", 4, at(10, 22), level=300, noise=40, CALSTAT="BDF")
    shoot(folder, "fl", 1, at(10, 12, 30), 21_000, NCOMBINE=12, **flat(IMAGETYP="Master Flat", CALSTAT="BD"))
    shoot(folder, "d", 1, at(9, 12), 30, NCOMBINE=16, **capped("Master Dark", CALSTAT="B"))
    scan(own, folder)
    titles = [x["title"].rpartition(", ")[2] for x in own.get("/api/sets").json["items"]]
    assert {"bias off", "calibrated", "pedestal off"} <= set(titles)
    lines = {line["kind"]: line for *_, slip, line, _ in slips_of(own)}
    assert lines["dark flat"]["note"] == "already taken off in the master flat"
    assert lines["dark"]["verdict"] == "fits with care"
    assert any("leaves the pedestal" in reason for reason in lines["dark"]["chosen"]["reasons"])
    (night,) = own.get("/api/rigs/1/nights").json["nights"]
    assert night["taken"] == 4, "a copy is no other light"
    asked = f"/api/hand-over?rig_id=1&night={night['night']}"
    handed = own.get(asked).json
    assert sum(f["kind"] == "light" for f in handed["files"]) == 4
    calibrated = own.get(f"{asked}&form=calibrated lights")
    assert calibrated.status_code == 400 and "a bias was taken off their dark" in calibrated.json["detail"]
