"""A master's card: what was found of its frames, a frame put in or taken out, and the set combined anew."""

from __future__ import annotations

import io

import numpy as np
import pytest
from astropy.io import fits

from tests.helpers import DARK, write_fits
from tests.reference.faulty_sets import darks

HEADER = {
    "INSTRUME": "Merl 7", "TELESCOP": "Cask 60", "FOCALLEN": 360.0, "IMAGETYP": "DARK", "EXPTIME": 120.0, "GAIN": 10, "OFFSET": 20,
    "SET-TEMP": -10.0, "CCD-TEMP": -10.1, "XBINNING": 1, "YBINNING": 1,
}  # fmt: skip


@pytest.fixture
def shelf(own, tmp_path):
    """Twelve darks by another program, one of them a degree warmer, combined: the master's card."""
    frames, wrong = darks(3, "wrong temperature", n=12)
    for i, pixels in enumerate(frames):
        at = f"2026-11-01T22:{10 + i:02d}:00"
        write_fits(tmp_path / "darks" / f"dark_{i:03d}.fits", {**HEADER, "DATE-OBS": at}, pixels)
    own.scan(tmp_path / "darks")
    (set_id,) = (x["id"] for x in own.sets().values() if x["kind"] == "dark")
    assert own.build([set_id])["state"] == "done"
    return own, set_id, wrong


def card_of(own):
    (master,) = (x["id"] for x in own.sets().values() if "master" in x["state"])
    return own.get(f"/api/holdings/{master}")


def test_a_frame_is_put_in_and_taken_out_and_the_former_master_stays(shelf):
    own, set_id, wrong = shelf
    n = next(x["n_frames"] for x in own.sets().values() if x["id"] == set_id)
    master = own.query(f"SELECT master_set_id FROM frame_set WHERE id = {set_id}")[0][0]
    card = own.get(f"/api/holdings/{master}")
    assert card["checked"] and card["can_remake"] and card["pending"] == 0
    assert [i["temp"] for i in card["inputs"]] == [-10.1] * n and all(
        i["mean"] and i["noise"] for i in card["inputs"]
    )
    out = [i for i in card["inputs"] if not i["used"]]
    assert [i["name"] for i in out] == [f"dark_{wrong:03d}.fits"]
    assert out[0]["reason"].startswith("wrong temperature") and card["findings"][0]["left_out"]
    first = next(i for i in card["inputs"] if i["used"])
    use = f"/api/holdings/{master}/frames/{first['frame_id']}"
    assert own.client.put(use, json={"use": "out"}).status_code == 200
    assert own.get(f"/api/holdings/{master}")["pending"] == 1
    assert own.client.put(use, json={"use": "as found"}).status_code == 200
    assert own.get(f"/api/holdings/{master}")["pending"] == 0
    assert own.client.put(use, json={"use": "out"}).status_code == 200
    for other in out:
        where = f"/api/holdings/{master}/frames/{other['frame_id']}"
        assert own.client.put(where, json={"use": "in"}).status_code == 200
    assert own.client.put(f"/api/holdings/{master}/frames/99999", json={"use": "in"}).status_code == 404
    job = own.client.post(f"/api/holdings/{master}/again", json={"method": "median"}).json
    assert own.ended(job["id"])["state"] == "done"
    again = own.query(f"SELECT master_set_id FROM frame_set WHERE id = {set_id}")[0][0]
    assert again != master and own.get(f"/api/holdings/{master}")["taken_off"]
    card = own.get(f"/api/holdings/{again}")
    assert "median" in card["made"] and card["pending"] == 0
    used = {i["name"]: (i["used"], i["reason"]) for i in card["inputs"]}
    assert used[first["name"]] == (False, "taken out by hand")
    assert all(used[i["name"]][0] and "put in by hand" in used[i["name"]][1] for i in out)
    # The file can be understood without us, and the former one is where it was.
    with fits.open(card["file"]) as hdus:
        table = hdus["INPUTS"].data
        assert sum(table["USED"]) == n - 1 and set(table["CCDTEMP"]) == {-10.1}
        assert all(len(h) == 64 for h in table["SHA256"])
    assert own.client.post(f"/api/holdings/{again}/again", json={"kappa": 0.1}).status_code == 422
    own.again()
    assert own.get(f"/api/holdings/{again}")["inputs"] == card["inputs"]


def test_frames_are_in_the_order_taken_whatever_their_names(own, tmp_path):
    frames, _ = darks(5, "unsettled first frames", n=12)
    for i, pixels in enumerate(frames):
        cards = {**HEADER, "DATE-OBS": f"2026-11-01T22:{10 + i:02d}:00"}
        write_fits(tmp_path / "darks" / f"d{(7 * i) % 12}_{'zyx'[i % 3]}.fits", cards, pixels)
    own.scan(tmp_path / "darks")
    own.build()
    (master,) = (
        row[0] for row in own.query("SELECT master_set_id FROM frame_set WHERE master_set_id IS NOT NULL")
    )
    card = own.get(f"/api/holdings/{master}")
    assert [f["fault"] for f in card["findings"]] == ["unsettled first frames"]
    assert [i["name"] for i in card["inputs"] if not i["used"]] == ["d0_z.fits", "d7_y.fits"]
    # Combined anew as it was: the same master stays, and nothing is lost.
    before = own.query("SELECT count(*) FROM frame")
    job = own.client.post(f"/api/holdings/{master}/again", json={}).json
    assert own.ended(job["id"])["state"] == "done"
    again = own.query("SELECT master_set_id FROM frame_set WHERE master_set_id IS NOT NULL")[0][0]
    assert own.query("SELECT count(*) FROM frame") == before
    card = own.get(f"/api/holdings/{again}")
    assert card["picture"] and not card["taken_off"] and len(card["inputs"]) == 12, card["picture_trouble"]
    assert own.get("/api/rigs/1/shelf")["darks"]["spines"][0]["id"] == again


def test_a_master_from_elsewhere_is_looked_at_when_its_card_is_pulled(own, tmp_path):
    frames, _ = darks(4, "light leak")
    mean = sum(f.astype("f4") for f in frames) / len(frames)
    cards = {**HEADER, "IMAGETYP": "Master Dark", "NCOMBINE": 16, "DATE-OBS": "2026-11-01T22:10:00"}
    write_fits(tmp_path / "masters" / "md.fits", cards, mean.astype("f4"))
    own.scan(tmp_path / "masters")
    (set_id,) = (x["id"] for x in own.sets().values() if x["kind"] == "dark")
    card = own.get(f"/api/holdings/{set_id}")
    assert card["checked"] and [f["fault"] for f in card["findings"]] == ["light leak"], card["findings"]
    assert card["findings"][0]["place"]["left"] > 0.3 and not card["can_remake"]
    listed = own.client.get(f"/api/holdings/{set_id}/defects.csv").text.splitlines()
    with fits.open(
        io.BytesIO(own.client.get(f"/api/holdings/{set_id}/defects.fits").data), checksum=True
    ) as hdus:
        drawn, cards = hdus[0].data, hdus[0].header
    assert listed[0].endswith("column,row,kind,value") and len(listed) - 1 == cards["N_HOT"] + cards["N_COLD"]
    column, row, kind, _ = listed[1].split(",")
    assert kind == "hot" and drawn[int(row), int(column)] == 1 and cards["N_HOT"] == (drawn == 1).sum() > 100
    assert own.client.get("/api/holdings/99999/defects.csv").status_code == 404
    assert own.client.post(f"/api/holdings/{set_id}/again", json={}).status_code == 409


def test_a_card_says_how_many_frames_are_enough(client):
    shelf = client.get("/api/rigs/1/shelf").json
    cards = [
        client.get(f"/api/holdings/{s['id']}").json
        for wall in ("darks", "flats")
        for s in shelf[wall]["spines"]
    ]
    asked = [c for c in cards if c["enough"]]
    assert {c["spine"]["kind"] for c in asked} == {"dark", "flat"}
    for card in asked:
        percent = card["enough"]["percent"]
        assert len(percent) == 98 and percent == sorted(percent, reverse=True) and percent[-1] > 0
        # √(1 + c/N) − 1, with one c for all N: both formulas of the trade (Howell, Handbook of CCD Astronomy, ch. 4).
        c3, c100 = (n * ((1 + p / 100) ** 2 - 1) for n, p in ((3, percent[0]), (100, percent[-1])))
        assert c3 == pytest.approx(c100, rel=0.05, abs=2e-3)
        assert "light" in card["enough"]["lights"]
        ruled, of_dark = card["enough"]["ruled"], card["spine"]["kind"] == "dark"
        assert ("read-out rules it" in ruled and "Dark current rules at −10" in ruled) == of_dark
    assert not any(c["enough"] for c in cards if not c["serves"])


def test_what_cannot_be_combined_is_said_plainly_and_leaves_no_half_made_master(own, tmp_path, monkeypatch):
    frames, _ = darks(5, "", n=6)
    folder = tmp_path / "bad"

    def write(name, pixels, **more):
        at = (
            f"2026-11-02T22:{10 + len(list(folder.glob('*')))}:00"
            if folder.exists()
            else "2026-11-02T22:10:00"
        )
        write_fits(folder / name, {**HEADER, "DATE-OBS": at, **more}, pixels)

    for i, pixels in enumerate(frames):
        write(f"d_{i}.fits", pixels)
    # Another size, and a master, are no frames of the set; a single one of another exposure is no stack.
    write("small.fits", frames[0][:100, :100])
    write("master.fits", frames[0].astype("f4"), IMAGETYP="MASTER DARK", NCOMBINE=40)
    write("alone.fits", frames[0], EXPTIME=333.0)
    own.scan(folder)

    def number(name):
        return own.query(f"SELECT set_id FROM frame WHERE path = '{name}'")[0][0]

    assert len({number(n) for n in ("d_0.fits", "small.fits", "master.fits", "alone.fits")}) == 4
    alone = own.client.post("/api/builds", json={"set_ids": [number("alone.fits")]})
    assert alone.status_code == 409 and "have too few frames" in alone.json["detail"]
    masters = own.library.root / "masters"

    def kept():
        return sorted(p.name for p in masters.rglob("*") if p.is_file())

    # A file that is cut off while its set is being combined, one that is gone, and all of them put aside.
    whole = (folder / "d_2.fits").read_bytes()
    (folder / "d_2.fits").write_bytes(whole[:9000])
    assert "d_2.fits" in own.build([number("d_0.fits")])["message"] and kept() == []
    (folder / "d_2.fits").unlink()
    assert "are not where they were, d_2.fits for one" in own.build([number("d_0.fits")])["message"]
    (folder / "d_2.fits").write_bytes(whole)
    with own.library.db.session() as session:
        session.connection().exec_driver_sql("UPDATE frame SET rejected = 1 WHERE path LIKE 'd_%'")
    assert "all were rejected" in own.build([number("d_0.fits")])["message"] and kept() == []
    with own.library.db.session() as session:
        session.connection().exec_driver_sql("UPDATE frame SET rejected = 0")
    own.scan(folder)
    job = own.build([number("d_0.fits")])
    assert job["state"] == "done" and len(kept()) == 1 and not kept()[0].endswith(".part")


def test_frames_with_holes_are_combined_and_their_master_has_a_card(own, tmp_path):
    frames, _ = darks(6, "", n=6)
    for i, pixels in enumerate(frames):
        # Whole numbers of 32 bits with BLANK, as FITS says that a pixel holds nothing; one hole is in every frame.
        counts = pixels.astype(np.int32)
        counts[7, 9] = counts[20 + i, 30] = -1
        head = fits.Header({**HEADER, "DATE-OBS": f"2026-11-03T22:{10 + i:02d}:00", "BLANK": -1})
        (tmp_path / "holes").mkdir(exist_ok=True)
        fits.PrimaryHDU(counts, head).writeto(tmp_path / "holes" / f"h_{i}.fits")
    own.scan(tmp_path / "holes")
    (number,) = (x["id"] for x in own.sets().values() if x["kind"] == "dark")
    assert own.build([number])["state"] == "done"
    card = card_of(own)
    assert card["figures"][0]["value"] == pytest.approx(float(np.median(frames[0])), abs=3.0)
    (path,) = (own.library.root / "masters").rglob("*.fits")
    master = fits.getdata(path)
    assert np.isnan(master[7, 9]) and np.isnan(master).sum() == 1
    assert own.get(f"/api/frames/{card['frames'][0]['frame_id']}/histogram")["unknown"] == 1


def test_frames_that_were_set_aside_did_not_come_to_their_set_since(own, tmp_path):
    for i in range(6):
        folder = tmp_path / "frames" / ("rejected" if i == 5 else "darks")
        write_fits(folder / f"d{i}.fits", {**DARK, "DATE-OBS": f"2026-10-18T22:{10 * i:02d}:00"})
    own.scan(tmp_path / "frames")
    own.build()
    master, of_set = own.query("SELECT master_set_id, n_frames FROM frame_set WHERE NOT is_master")[0]
    assert of_set == 6 and own.get(f"/api/holdings/{master}")["inputs_note"] == "5 of 5 used"


def test_the_lowest_and_the_highest_of_few_frames_are_left_out_and_not_of_many(own, tmp_path):
    for name, gain, count in (("few", 10, 5), ("many", 50, 12)):
        for i in range(count):
            pixels = np.random.default_rng(i).normal(500, 6, (24, 32)).astype(np.uint16)
            pixels[3, 4] = 60_000 if i == 1 else 500
            at = f"2026-11-01T22:{10 + i:02d}:00"
            cards = {**HEADER, "GAIN": gain, "DATE-OBS": at}
            write_fits(tmp_path / "x" / f"{name}_{i:03d}.fits", cards, pixels)
    own.scan(tmp_path / "x")
    few, many = sorted((x["n_frames"], i) for i, x in own.sets().items() if x["kind"] == "dark")
    asked = {"method": "mean without extremes"}
    # Frames that are set aside do not count, where it is offered and where it is asked for.
    own.change(f"UPDATE frame_set SET n_kept = 10 WHERE id = {many[1]}")
    begun = own.client.post(f"/api/holdings/{many[1]}/again", json=asked)
    assert begun.status_code == 200, begun.text
    own.ended(begun.json["id"])
    own.change(f"UPDATE frame_set SET n_kept = 12 WHERE id = {many[1]}")
    refused = own.client.post(f"/api/holdings/{many[1]}/again", json=asked)
    assert refused.status_code == 409 and "few frames" in refused.json["detail"]
    assert (
        own.ended(own.client.post(f"/api/holdings/{few[1]}/again", json=asked).json["id"])["state"] == "done"
    )
    card = card_of(own)
    assert "mean without the lowest and the highest of each pixel" in card["made"] and card["few_frames"]
    stack = np.stack([fits.getdata(p) for p in sorted((tmp_path / "x").glob("few*"))]).astype(float)
    with fits.open(card["file"]) as hdus:
        np.testing.assert_allclose(hdus[0].data, np.sort(stack, axis=0)[1:-1].mean(axis=0), rtol=1e-6)
