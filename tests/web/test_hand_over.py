"""Handing over: what came out is read by other code, as a stacking program would, and compared with the slips."""

from __future__ import annotations

import csv
import hashlib
import io
import json
import re
import shutil
import threading
import zipfile
from collections import defaultdict
from datetime import datetime, timedelta

import numpy as np
import pytest
from astropy.io import fits

from grayshelf.library.models import Frame, Job
from grayshelf.work import handing_over
from tests.helpers import write_fits
from tests.own import Own

BASE = {"INSTRUME": "Merl 7", "TELESCOP": "Cask 60", "FOCALLEN": 360.0, "GAIN": 56, "OFFSET": 18, "XBINNING": 1,
        "YBINNING": 1, "SET-TEMP": -5.0, "CCD-TEMP": -5.0}  # fmt: skip
NIGHTS = (datetime(2026, 10, 17, 21), datetime(2026, 10, 18, 21))


def shot(folder, name, kind, at, exposure, level=900.0, **more):
    rng = np.random.default_rng(int(hashlib.md5(name.encode()).hexdigest()[:6], 16))
    pixels = rng.normal(level, 12, (48, 64)).clip(0, 65535).astype(np.uint16)
    cards = {**BASE, "IMAGETYP": kind, "EXPTIME": exposure, "DATE-OBS": at.isoformat(), **more}
    return write_fits(folder / f"{name}.fits", cards, pixels)


def heap(folder):
    """Two nights of another program in one folder: two filters, the camera turned within the second night, flats for each
    stand, dark flats, darks of one exposure; nothing for a third filter's lights."""
    for n, night in enumerate(NIGHTS):
        stands = [(40.0, 0)] if n == 0 else [(40.0, 0), (95.0, 4)]
        for angle, later in stands:
            for code, level in (("R", 21000.0), ("B", 18000.0)):
                for i in range(3):
                    at = night + timedelta(hours=later, minutes=2 * i + 20 * (code == "B"))
                    shot(
                        folder,
                        f"l{n}{code}{angle:.0f}{i}",
                        "LIGHT",
                        at,
                        60.0,
                        FILTER=code,
                        OBJECT="M 33",
                        ROTATANG=angle,
                    )
                for i in range(4):
                    at = night + timedelta(hours=later + 2, seconds=5 * i + 60 * (code == "B"))
                    shot(
                        folder,
                        f"f{n}{code}{angle:.0f}{i}",
                        "FLAT",
                        at,
                        1.5,
                        level,
                        FILTER=code,
                        ROTATANG=angle,
                    )
    for i in range(5):
        shot(folder, f"df{i}", "DARKFLAT", NIGHTS[0] + timedelta(hours=3, seconds=i), 1.5, 500.0)
        shot(folder, f"d{i}", "DARK", NIGHTS[0] + timedelta(hours=5, seconds=70 * i), 60.0, 510.0)
    for i in range(2):
        at = NIGHTS[1] + timedelta(hours=6, minutes=2 * i)
        shot(folder, f"ha{i}", "LIGHT", at, 60.0, FILTER="Ha", OBJECT="M 33", ROTATANG=40.0)


@pytest.fixture
def own(tmp_path):
    library = Own(tmp_path / "library")
    heap(tmp_path / "heap")
    library.scan(tmp_path / "heap")
    library.build()
    yield library
    library.close()


def sets_of_lights(own):
    return [i for i, x in own.sets().items() if x["kind"] == "light"]


def query(own, form="masters", **more):
    return {"sets": ",".join(map(str, sets_of_lights(own))), "form": form, **more}


def hand(own, folder, form="masters", **more):
    answer = own.client.post("/api/hand-over", json={**query(own, form), "folder": str(folder), **more})
    assert answer.status_code == 200, answer.text
    return own.ended(answer.json["job_id"])


def sha(path):
    return hashlib.sha256(path.read_bytes()).hexdigest()


def paired_from(folder):
    """Reading the folder alone: for each light by its content, the contents of the flats and darks that a program that
    groups by the word in names, filter and exposure would take."""
    word = re.compile(r"NIGHT_[\w-]+?(?=/|_light|_flat|_dark|_master|_bias)")
    frames = defaultdict(list)
    for path in folder.rglob("*.fit*"):
        header, at = fits.getheader(path), path.relative_to(folder).as_posix()
        found = word.search(at)
        kind = at.split("/")[0]
        # The word stands in the folder and in the name, and both say the same.
        assert len(set(word.findall(at))) <= 1 and (found is None or len(word.findall(at)) == 2), at
        frames[kind].append((found[0] if found else "", header.get("FILTER"), header["EXPTIME"], sha(path)))
    pairs = {}
    for at, code, exposure, light in frames["lights"]:
        flats = {f[3] for f in frames["flats"] if f[0] == at and f[1] == code}
        darks = {d[3] for d in frames["darks"] if d[0] in ("", at) and d[2] == exposure}
        pairs[light] = (flats, darks)
    return pairs


def meant(own, form):
    """The same by the slips."""
    pairs = {}
    with own.library.db.session() as session:

        def files_of(set_id):
            card = own.get(f"/api/holdings/{set_id}")
            ids = [i["frame_id"] for i in card["inputs"] if i["used"]] if form == "raw frames" else []
            where = Frame.id.in_(ids) if ids else Frame.set_id == set_id
            found = session.query(Frame).filter(where, ~Frame.rejected)
            return {sha(own.library.frame_path(session, f)) for f in found}

        for set_id in sets_of_lights(own):
            lines = own.get(f"/api/lights/{set_id}/slip")["lines"]
            served = {
                x["kind"]: x["chosen"]["holding_id"]
                for x in lines
                if x["chosen"] and x["verdict"] != "nothing fits"
            }
            flats, darks = (files_of(served[k]) if k in served else set() for k in ("flat", "dark"))
            for light in session.query(Frame).filter(Frame.set_id == set_id, ~Frame.rejected):
                pairs[sha(own.library.frame_path(session, light))] = (flats, darks)
    return pairs


@pytest.mark.parametrize("form", ["masters", "raw frames"])
def test_what_comes_out_pairs_as_the_slips_do(own, tmp_path, form):
    told = own.client.get("/api/hand-over", query_string=query(own, form)).json
    assert sorted(told["words"]) == ["NIGHT_2026-10-17", "NIGHT_2026-10-18", "NIGHT_2026-10-18b"]
    assert any("Ha" in s and "nothing fits as flat" in s for s in told["said"]), told["said"]
    job = hand(own, tmp_path / "out", form)
    assert job["state"] == "done" and "are not" not in job["message"], job
    pairs = paired_from(tmp_path / "out")
    assert pairs == meant(own, form) and len(pairs) == 20
    dark_flats = list((tmp_path / "out").glob("dark_flats/**/*.fit*"))
    assert bool(dark_flats) == (form == "raw frames"), "a master flat has them taken off already"
    table = list(csv.DictReader((tmp_path / "out" / "what-is-what.csv").open()))
    assert {r["path"] for r in table} == {
        p.relative_to(tmp_path / "out").as_posix() for p in (tmp_path / "out").rglob("*.fit*")
    }
    # The same as a zip, and as lists.
    packed = zipfile.ZipFile(
        io.BytesIO(own.client.get("/api/hand-over.zip", query_string=query(own, form)).data)
    )
    assert packed.testzip() is None
    for name in packed.namelist():
        assert packed.read(name) == (tmp_path / "out" / name).read_bytes()
    listed = json.loads(own.client.get("/api/hand-over.json", query_string=query(own, form)).text)
    lines = own.client.get("/api/hand-over.csv", query_string=query(own, form)).text.strip().splitlines()
    assert len(listed["files"]) == len(lines) - 1 == len(table) and listed["said"] == told["said"]
    assert (
        own.client.get("/api/hand-over.zip", query_string=query(own, form, lights="false")).status_code == 200
    )


def test_raw_flats_of_the_sky_go_with_the_bias_that_is_taken_off_them(tmp_path):
    """Their master has none left to take off, so no line of the slip asks for one."""
    heap = tmp_path / "heap"
    for i in range(6):
        shot(
            heap,
            f"l{i}",
            "LIGHT",
            NIGHTS[0] + timedelta(minutes=2 * i),
            60.0,
            FILTER="R",
            OBJECT="M 33",
            ROTATANG=40.0,
        )
        shot(heap, f"d{i}", "DARK", NIGHTS[0] + timedelta(hours=5, minutes=2 * i), 60.0, 510.0)
        shot(heap, f"b{i}", "BIAS", NIGHTS[0] + timedelta(hours=6, seconds=i), 0.0, 500.0)
        dusk = NIGHTS[0] + timedelta(hours=-3, seconds=30 * i)
        shot(heap, f"f{i}", "Sky Flat", dusk, 1.0 + 0.4 * i, 20_000.0 + 300 * i, FILTER="R", ROTATANG=40.0)
    own = Own(tmp_path / "library")
    own.scan(heap)
    own.build()
    assert hand(own, tmp_path / "raw", "raw frames")["state"] == "done"
    assert len(list((tmp_path / "raw" / "bias").iterdir())) == 6
    assert hand(own, tmp_path / "masters")["state"] == "done"
    assert not (tmp_path / "masters" / "bias").exists() and list(
        (tmp_path / "masters" / "flats").glob("**/*.fits")
    )
    before = own.client.get("/api/hand-overs", query_string=query(own)).json["handed"]
    assert len(before) == 2 and not any(x["renewed"] for x in before), "nothing is another one since"
    for path in heap.glob("b*.fits"):
        path.unlink()
    for path in (tmp_path / "library").glob("masters/**/*bias*"):
        path.unlink()
    own.scan(heap)
    own.ended(own.client.post("/api/folders/1/scan", json={}).json["id"])
    told = own.client.get("/api/hand-over", query_string=query(own, "raw frames")).json
    assert any("the bias that was taken off their flat is not here" in s for s in told["said"]), told["said"]
    own.close()


@pytest.mark.parametrize(
    "pattern",
    [
        "{target}/{kind}s/[{word}/][{word}_]{kind}[_{filter}][_{exposure}]_{number}",
        "[{word}_]{kind}_{name}",
        "{word}",
    ],
)
def test_a_pattern_of_ones_own_pairs_all_the_same(own, tmp_path, pattern):
    """Read by the word alone, wherever it stands; no two files have one name, however little the pattern says."""
    wanted = query(own, pattern=pattern)
    if pattern == "{word}":
        answer = own.client.get("/api/hand-over", query_string=wanted)
        assert answer.status_code == 400 and "{number}" in answer.json["advice"]
        no_word = own.client.get("/api/hand-over", query_string=query(own, pattern="{kind}_{number}"))
        assert no_word.status_code == 400 and "{word}" in no_word.json["advice"]
        return
    out = tmp_path / "out"
    job = own.client.post("/api/hand-over", json={**wanted, "folder": str(out)}).json["job_id"]
    assert own.ended(job)["state"] == "done"
    word = re.compile(r"NIGHT_\d{4}-\d{2}-\d{2}[a-z]*")
    frames = defaultdict(list)
    for path in out.rglob("*.fits"):
        header, found = fits.getheader(path), word.search(path.relative_to(out).as_posix())
        kind = header["IMAGETYP"].lower().removeprefix("master ").split()[0]
        frames[kind].append((found[0] if found else "", header.get("FILTER"), header["EXPTIME"], sha(path)))
    pairs = {
        light: (
            {f[3] for f in frames["flat"] if f[0] == at and f[1] == code},
            {d[3] for d in frames["dark"] if d[0] in ("", at) and d[2] == exposure},
        )
        for at, code, exposure, light in frames["light"]
    }
    assert pairs == meant(own, "masters") and len(pairs) == 20


def test_nothing_is_overwritten_and_what_was_cut_short_goes_on(own, tmp_path, monkeypatch):
    out = tmp_path / "out"
    for folder, said in (
        (tmp_path / "heap", "not empty"),
        (tmp_path / "heap" / "new", "in the library"),
        (own.root / "new", "in the library"),
        ("relative", "whole path"),
        (tmp_path / "nowhere" / "new", "no folder"),
    ):
        answer = own.client.post("/api/hand-over", json={**query(own), "folder": str(folder)})
        assert answer.status_code in (400, 403, 409) and said in answer.text, (folder, answer.text)
    assert own.client.get("/api/hand-over", query_string={"sets": "9999"}).status_code == 404
    assert own.client.get("/api/hand-over", query_string={"sets": ""}).status_code == 400
    assert own.client.get("/api/hand-over", query_string={"sets": "x"}).status_code == 400

    # Cut short in the middle of a file, then gone on with: every file is whole, none twice.
    done, stop = threading.Semaphore(0), {}
    one = handing_over._hand_one

    def counted(library, item, target, way, check):
        if target.name.endswith("_0003.fits") and "cut" not in stop:
            stop["cut"] = True
            target.parent.mkdir(parents=True, exist_ok=True)
            target.with_name(target.name + ".part").write_bytes(b"half")
            target.write_bytes(b"")
            raise SystemExit
        one(library, item, target, way, check)
        done.release()

    monkeypatch.setattr(handing_over, "_hand_one", counted)

    # Its disk is pulled: that is one event, and nothing is written to what stands at its place.
    def pulled(library, item, target, way, check):
        out.rename(tmp_path / "pulled")
        monkeypatch.setattr(handing_over, "_hand_one", counted)

    monkeypatch.setattr(handing_over, "_hand_one", pulled)
    gone = hand(own, out)
    assert gone["state"] == "failed" and "is not there any more" in gone["message"] and not out.exists()
    shutil.rmtree(tmp_path / "pulled")
    cut = hand(own, out)
    assert cut["state"] == "failed" and stop["cut"]
    # Killed between giving a file its name and letting go of the one it was written as.
    whole = next(p for p in out.rglob("*_0001.fits"))
    whole.with_name(whole.name + ".part").write_bytes(whole.read_bytes())
    own.client.post(f"/api/jobs/{cut['id']}/resume")
    job = own.ended(cut["id"])
    assert job["state"] == "done" and not list(out.rglob("*.part")), job
    assert paired_from(out) == meant(own, "masters")

    # What goes where lies in a file: a job is read often, also that of ten thousand frames.
    with own.library.db.session() as session:
        params = session.get_one(Job, job["id"]).params
    assert len(json.dumps(params)) < 2000 and (own.root / params["plan"]).is_file()
    # Without it nothing can go on, and it is said.
    (own.root / params["plan"]).rename(tmp_path / "away")
    own.change(f"UPDATE job SET state = 'failed' WHERE id = {job['id']}")
    own.client.post(f"/api/jobs/{job['id']}/resume")
    assert "not to be read any more" in own.ended(job["id"])["message"]

    # A frame that changed since it came in is not handed over, and it is said; nor is one that is gone.
    light = sorted((tmp_path / "heap").glob("l0R*.fits"))
    with own.library.db.session() as session:
        frame = session.query(Frame).filter(Frame.path == light[0].name).one()
        frame.sha256 = sha(light[0])
    with fits.open(light[0], mode="update") as hdus:
        hdus[0].data[0, 0] += 1
    light[1].rename(light[1].with_suffix(".away"))
    job = hand(own, tmp_path / "again")
    assert job["state"] == "done" and "2 are not" in job["message"], job
    with own.library.db.session() as session:
        failed = " ".join(session.get_one(Job, job["id"]).result["failed"])
    assert "not what it was when it came" in failed and "no longer where it was" in failed
    assert len(list((tmp_path / "again" / "lights").rglob("*.fits"))) == 18
    refused = own.client.get("/api/hand-over.zip", query_string=query(own))
    assert refused.status_code == 404, "not half of it"


@pytest.mark.parametrize("way", ["hard links", "links"])
def test_links_take_no_room_and_a_renewed_master_is_told(own, tmp_path, way):
    out = tmp_path / "out"
    hand(own, out, way=way, lights=False)
    files = list(out.rglob("*.fits"))
    assert files and not (out / "lights").exists()
    assert all(p.is_symlink() if way == "links" else p.stat().st_nlink > 1 for p in files)
    before = own.client.get("/api/hand-overs", query_string=query(own)).json["handed"]
    assert [(h["folder"], h["renewed"]) for h in before] == [(str(out), "")]
    # Fresh darks, better ones: what went before is not what would go now.
    for i in range(30):
        shot(tmp_path / "heap", f"new{i}", "DARK", NIGHTS[1] + timedelta(days=2, seconds=70 * i), 60.0, 510.0)
    own.scan(tmp_path / "heap")
    own.build()
    after = own.client.get("/api/hand-overs", query_string=query(own)).json["handed"]
    assert after[0]["renewed"].startswith("renewed since: dark, for "), after
