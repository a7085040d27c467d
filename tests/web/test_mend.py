"""What headers lack, said for many frames at once: it reaches sets, slips, masters and tables, and is taken back."""

from __future__ import annotations

import hashlib

import pytest
from astropy.io import fits

from tests.helpers import DARK, FLAT, LIGHT, write_fits
from tests.own import Own

FRAMES = 12


def bytes_of(folder):
    return {p: hashlib.sha256(p.read_bytes()).hexdigest() for p in sorted(folder.rglob("*.f*t*"))}


@pytest.fixture
def heap(own, tmp_path):
    """Lights that say all, and darks of another program that say little, in a zone seven hours behind."""
    folder = tmp_path / "heap"
    for i in range(FRAMES):
        write_fits(folder / f"lights/l{i}.fits", {**LIGHT, "DATE-OBS": f"2026-10-19T03:{i:02d}:00"})
        bare = {"INSTRUME": DARK["INSTRUME"], "DATE-OBS": f"2026-10-18T17:{i:02d}:00", "XBINNING": 1}
        write_fits(folder / f"calib/Dark_300s_m10_{i:04d}.fit", bare)
    own.client.put("/api/site", json={"name": "Mesa", "time_zone": "America/Denver"})
    assert own.scan(folder)["state"] == "done"
    return folder


def say(own, choice, saying=None, **more):
    answer = own.client.post("/api/mend", json={"choice": choice, "saying": saying or {}, **more})
    assert answer.status_code == 200, answer.text
    job = own.ended(answer.json["job_id"])
    assert job["state"] == "done", job
    return own.get("/api/mend")["said"][0]["id"]


def back(own, mending_id):
    answer = own.client.post(f"/api/mend/{mending_id}/take-back")
    assert answer.status_code == 200, answer.text
    assert own.ended(answer.json["job_id"])["state"] == "done"


def darks(own):
    return [(s["title"], s["n_frames"], s["night"]) for s in own.sets().values() if s["kind"] == "dark"]


def rows(own):
    columns = "path, kind, camera, utc, night, state, rejected, reason, facts"
    return own.query(f"SELECT {columns} FROM frame ORDER BY path")


PATTERN = "{kind}_{exposure}_{temperature}_{number}"


def test_from_names_and_by_hand_to_the_slip_and_back(own, heap):
    before, files = rows(own), bytes_of(heap)
    page = own.get("/api/mend")
    assert [(g["below"], g["lacks"], g["frames"]) for g in page["lacking"]] == [
        ("calib", ["sensor temperature", "gain"], FRAMES)
    ]
    meant = {
        "choice": {"name_has": "DARK_", "lacks": "gain"},
        "saying": {"gain": 200, "offset": 30},
        "pattern": PATTERN,
    }
    shown = own.client.post("/api/mend/preview", json=meant).json
    assert (shown["frames"], shown["said"], shown["changed"], shown["against"]) == (FRAMES, FRAMES, FRAMES, 0)
    cells = dict(zip(shown["columns"], shown["rows"][0]["cells"], strict=True))
    assert cells["gain"] == {"now": "", "then": "200"} and cells["temperature"]["then"] == "−10\u2009°C"
    assert rows(own) == before, "a preview changes nothing"

    first = say(own, meant["choice"], meant["saying"], pattern=PATTERN)
    assert darks(own) == [("300\u2009s, −10\u2009°C, gain 200", FRAMES, "17 Oct 26")]
    assert own.get("/api/mend")["lacking"] == [] and bytes_of(heap) == files

    # The slip of the lights rests on it, and says so; so does its table.
    lights = next(s for s in own.sets().values() if s["kind"] == "light")
    dark = next(x for x in own.get(f"/api/lights/{lights['id']}/slip")["lines"] if x["kind"] == "dark")
    by_hand = {r["quantity"]: r["by_hand"] for r in dark["chosen"]["rulers"]}
    assert by_hand["gain"] and by_hand["temperature"] and not by_hand["binning"], by_hand
    told = own.client.get(f"/api/lights/{lights['id']}/slip.csv").text
    assert "200 (said by hand)" in told

    # The master has it, and remembers that no header had; also where the library is found again by its files.
    assert own.build()["state"] == "done"
    names = [f["name"] for f in own.get(f"/api/holdings/{_master(own)}")["settings"]]
    assert any(n.startswith("Gain, said by hand, ") for n in names), names
    assert "said by hand" in str(own.query("SELECT facts FROM frame_set WHERE is_master"))

    # Said once more, said otherwise, and both taken back in the wrong order: as it was.
    second = say(own, {"folder_id": 2, "below": "calib"}, {"gain": 100, "clock_s": 3600})
    assert darks(own)[0][0].endswith("gain 100") and darks(own)[0][2] == "18 Oct 26", darks(own)
    back(own, first)
    assert darks(own)[0][0] == "300\u2009s, gain 100"
    back(own, second)
    assert [r for r in rows(own) if "calib" in r[0]] == [r for r in before if "calib" in r[0]]
    again = own.client.post(f"/api/mend/{second}/take-back")
    assert again.status_code == 409
    assert len(own.client.get("/api/mend/said.csv").text.splitlines()) >= 1 + 2 * FRAMES


def _master(own):
    return own.query("SELECT id FROM frame_set WHERE is_master")[0][0]


def test_it_outlives_scans_written_headers_and_the_folder_s_absence(own, heap):
    say(own, {"below": "calib"}, {"gain": 200}, kept=False)
    assert {r[6] for r in rows(own) if "calib" in r[0]} == {1}
    own.again()
    # A header written into afterwards, of the same exposure; one that is another exposure now.
    same, other = heap / "calib/Dark_300s_m10_0000.fit", heap / "calib/Dark_300s_m10_0001.fit"
    base = {"INSTRUME": DARK["INSTRUME"], "XBINNING": 1, "GAIN": 7}
    write_fits(same, {**base, "DATE-OBS": "2026-10-18T17:00:00"})
    write_fits(other, {**base, "DATE-OBS": "2027-01-01T01:00:00"})
    own.scan(heap)
    gains = {
        r[0]: (r[8], r[6])
        for r in own.query("SELECT path,1,1,1,1,1,rejected,1,json_extract(facts,'$.gain') FROM frame")
    }
    assert gains["calib/Dark_300s_m10_0000.fit"] == (200.0, 1)
    assert gains["calib/Dark_300s_m10_0001.fit"] == (7.0, 0)
    # Off the list and named again: what was said waited for its files.
    told = {p: g for p, g in gains.items() if not p.endswith("0001.fit")}
    assert own.client.delete("/api/folders/2").status_code == 200
    own.scan(heap)
    gains = {
        r[0]: (r[8], r[6])
        for r in own.query("SELECT path,1,1,1,1,1,rejected,1,json_extract(facts,'$.gain') FROM frame")
    }
    assert {p: g for p, g in gains.items() if p in told} == told


def test_cut_short_it_goes_on_and_two_do_not_mix(own, heap, monkeypatch):
    from grayshelf.library import mending
    from grayshelf.work.jobs import JobControl, Stopped

    whole, calls = JobControl.check, []

    def third(control):
        calls.append(1)
        if len(calls) == 3:
            raise Stopped
        whole(control)

    monkeypatch.setattr(mending, "AT_ONCE", 4)
    monkeypatch.setattr(JobControl, "check", third)
    answer = own.client.post("/api/mend", json={"choice": {"below": "calib"}, "saying": {"gain": 200}})
    job = own.ended(answer.json["job_id"])
    assert job["state"] == "stopped" and job["can_resume"]
    monkeypatch.setattr(JobControl, "check", whole)
    own.client.post(f"/api/jobs/{job['id']}/resume")
    assert own.ended(job["id"])["state"] == "done"
    assert [n for _, n, _ in darks(own)] == [FRAMES] and "gain 200" in darks(own)[0][0]


def test_what_makes_no_sense_is_refused_and_nothing_changes(own, heap):
    before = rows(own)
    for body in (
        {"choice": {"below": "calib"}, "saying": {}},
        {"choice": {"below": "calib"}, "saying": {"gain": -5}},
        {"choice": {"below": "nowhere"}, "saying": {"gain": 5}},
        {"choice": {"below": "calib"}, "saying": {}, "pattern": "{gian}"},
        {"choice": {"below": "lights"}, "saying": {}, "pattern": PATTERN},
        {"choice": {"lacks": "manners"}, "saying": {"gain": 5}},
        {"choice": {"below": "calib"}, "saying": {"kind": "portrait"}},
    ):
        answer = own.client.post("/api/mend", json=body)
        assert 400 <= answer.status_code < 500, (body, answer.text)
        if "below" in body["choice"] and body["saying"].get("kind") is None:
            assert own.client.post("/api/mend/preview", json=body).status_code == 200
    assert rows(own) == before and own.get("/api/mend")["said"] == []


def test_what_was_said_is_written_into_copies_that_any_program_reads(own, heap, tmp_path):
    """The headers of the copies say it, their pixels and all other cards are as they were, and the files are untouched."""
    odd = write_fits(
        heap / "calib/odd.fits",
        {"INSTRUME": "Dunlin M24", "ISOSPEED": 800, "XBINNING": 1, "DATE-OBS": "2026-10-18T17:40:00"},
    )
    own.scan(heap)
    before, out = bytes_of(heap), tmp_path / "out"
    said = {
        "kind": "dark",
        "exposure_s": 300,
        "sensor_temp_c": -10,
        "gain": 200,
        "offset": 30,
        "clock_s": 3600,
    }
    number = say(own, {"below": "calib"}, said)
    answer = own.client.post(f"/api/mend/{number}/copies", json={"folder": str(out)})
    assert answer.status_code == 200, answer.text
    job = own.ended(answer.json["job_id"])
    assert job["state"] == "done" and f"{FRAMES + 1} copies" in job["message"], job
    assert bytes_of(heap) == before
    for source in sorted((heap / "calib").glob("*.f*t*")):
        with fits.open(out / "calib" / source.name) as copy, fits.open(source) as raw:
            copy.verify("exception")
            header = copy[0].header
            assert (header["IMAGETYP"], header["EXPTIME"], header["GAIN"]) == ("Dark Frame", 300.0, 200.0)
            assert header["DATE-OBS"].startswith("2026-10-18T18:") and "said by hand" in str(
                header["HISTORY"]
            )
            assert (copy[0].data == raw[0].data).all()
            assert all(header[k] == raw[0].header[k] for k in raw[0].header if k not in ("DATE-OBS",))
    # Read by a library that knows nothing of what was said, they are what was meant.
    other = Own(tmp_path / "other")
    other.client.put("/api/site", json={"name": "Mesa", "time_zone": "America/Denver"})
    other.scan(out)
    assert [(s["kind"], s["n_frames"]) for s in other.sets().values()] == [("dark", FRAMES + 1)]
    assert not other.problems()
    other.close()
    # Never into the library, nor over anything; nor what is said no more.
    for folder in (heap / "new", own.root / "new", out):
        assert own.client.post(f"/api/mend/{number}/copies", json={"folder": str(folder)}).status_code >= 400
    back(own, number)
    assert (
        own.client.post(f"/api/mend/{number}/copies", json={"folder": str(tmp_path / "x")}).status_code == 404
    )
    assert odd.exists()


def test_frames_that_say_another_kind_than_their_folder_are_doubted_until_a_person_says_which_is_right(
    own, tmp_path
):
    """Common practice, no source: programs write 'light' where nobody chose a kind, and 'dark' where they know no other."""
    heap = tmp_path / "heap"

    def shoot(folder, count, hour, **cards):
        for i in range(count):
            at = {"DATE-OBS": f"2026-10-18T{hour:02d}:{i:02d}:00"}
            write_fits(heap / folder / f"{hour}_{i}.fits", {**cards, **at})

    shoot("18 Oct/Lights/NGC 6888", 2, 20, **LIGHT)
    shoot("18 Oct/Flats/SII", 3, 5, **{**LIGHT, "EXPTIME": 6.5, "OBJECT": ""})
    shoot("18 Oct/Flats", 2, 4, **{**LIGHT, "EXPTIME": 6.5, "FILTER": "Ha", "OBJECT": ""})
    shoot("18 Oct/DarkFlats", 2, 6, **{**DARK, "EXPTIME": 6.5})
    shoot("Bias", 2, 7, **{**DARK, "EXPTIME": 0.001})
    # Sound, or in doubt for another reason: darks among bias are too long for one; what the header says is no light or dark.
    shoot("Bias 2025", 2, 8, **DARK)
    shoot("Darks", 2, 9, **DARK)
    shoot("Dark nebulae", 1, 10, **LIGHT)
    shoot("Lights", 1, 11, **FLAT)
    # Lights in a folder of flats, and lights of its own below it: what is said of one would be said of the other.
    shoot("19 Oct/Flats", 1, 12, **{**LIGHT, "EXPTIME": 6.0, "OBJECT": ""})
    shoot("19 Oct/Flats/Lights", 1, 13, **{**LIGHT, "EXPTIME": 90.0})
    own.scan(heap)
    page = own.get("/api/mend")
    said = [(d["below"], d["told"], d["by_folder"], d["frames"]) for d in page["doubted"]]
    assert said == [
        ("18 Oct/Flats", "light", "flat", 5),
        ("18 Oct/DarkFlats", "dark", "dark flat", 2),
        ("Bias", "dark", "bias", 2),
    ]
    assert (
        page["doubted_frames"] == 9
        and "9 frames lie in folders that are named for another" in own.get("/api/intake")["doubted_kinds"]
    )

    def are(doubt, kind):
        choice = {"folder_id": doubt["folder_id"], "below": doubt["below"], "kind": doubt["told"]}
        return say(own, choice, {"kind": kind})

    flats, darks, bias = page["doubted"]
    are(flats, "flat")
    same = are(darks, "dark")
    assert own.get("/api/intake")["doubted_kinds"].startswith(
        "2 frames say dark and lie in a folder named for bias"
    )
    kinds = sorted((s["kind"], s["n_frames"]) for s in own.sets().values() if s["n_frames"] > 1)
    assert [k for k in kinds if k[0] == "flat"] == [("flat", 2), ("flat", 4)], "with the one that was a flat"
    # A person's word of a folder stands for what comes into it: else one press would say otherwise of the first ones, too.
    shoot("18 Oct/DarkFlats", 1, 14, **{**DARK, "EXPTIME": 6.5})
    own.scan(heap)
    assert {d["below"] for d in own.get("/api/mend")["doubted"]} == {"Bias"}
    # What was said is taken back, and it is in doubt again; a scan changes nothing.
    back(own, same)
    own.scan(heap)
    assert {d["below"] for d in own.get("/api/mend")["doubted"]} == {"18 Oct/DarkFlats", "Bias"}
    assert bias["example"] == "Bias/7_0.fits"


def test_lights_without_a_target_may_be_of_what_their_folder_is_named_for(own, tmp_path):
    """Common practice, no source: cameras that are no astronomical ones write no target, and folders are named for it."""
    heap = tmp_path / "Autumn frames"
    bare = {k: v for k, v in LIGHT.items() if k != "OBJECT"}

    def shoot(folder, hour, cards=bare, count=2):
        for i in range(count):
            write_fits(
                heap / folder / f"{hour}_{i}.fits", {**cards, "DATE-OBS": f"2026-10-18T{hour:02d}:{i:02d}:00"}
            )

    shoot("Veil West/2026-10-18/Lights", 18)
    shoot(f"Veil West/{LIGHT['INSTRUME']}/raw", 5)
    shoot("Veil West/Ha", 19, {**bare, "FILTER": "Ha"})
    shoot("2026-10-18 Elephant's Trunk", 20)
    shoot("Horsehead", 21)
    # Known by its number or its header; named for nothing; for two.
    shoot("NGC 7000", 22)
    shoot("Andromeda", 23, LIGHT)
    shoot("ISO800 2026-10-18", 0, {**bare, "GAIN": 800})
    # Flats that say light: first it is said what they are.
    shoot("Bubble/Lights", 3)
    shoot("Bubble/Flats", 4, {**bare, "EXPTIME": 2.0})
    shoot("Heart", 1, {**bare, "GAIN": 7})
    shoot("Heart/Soul", 2, {**bare, "GAIN": 8})
    own.scan(heap)
    told = {p["target"]: p for p in own.get("/api/mend")["targets"]}
    assert {name: (p["below"], p["frames"]) for name, p in told.items()} == {
        "Veil West": ("Veil West", 6),
        "Elephant's Trunk": ("2026-10-18 Elephant's Trunk", 2),
        "Horsehead": ("Horsehead", 2),
        "Soul": ("Heart/Soul", 2),
    }
    rig = own.get("/api/state")["rigs"][0]["id"]
    night = f"/api/rigs/{rig}/nights/2026-10-18"
    assert own.get(night)["without_target"]
    veil = {
        "folder_id": told["Veil West"]["folder_id"],
        "below": "Veil West",
        "kind": "light",
        "lacks": "target",
    }
    said = say(own, veil, {"target": "Veil West"})
    assert "Veil West" not in {p["target"] for p in own.get("/api/mend")["targets"]}
    assert sum(s["title"].startswith("Veil West") for s in own.sets().values()) == 3, (
        "two filters, two nights"
    )
    back(own, said)
    assert "Veil West" in {p["target"] for p in own.get("/api/mend")["targets"]}
