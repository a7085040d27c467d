"""Filing: nothing is lost or overwritten, whatever the tree, the pattern and the moment; taken back, the tree is as it was."""

from __future__ import annotations

import errno
import os
import random
import shutil
import string
from pathlib import Path

import pytest

from grayshelf.core.errors import DiskOut, GrayShelfError
from grayshelf.core.filing.filing import USUAL, Sort
from grayshelf.core.filing.name_pattern import name_pattern
from grayshelf.library import bringing
from grayshelf.library.choosing import Choice
from grayshelf.library.filing import FiledBy, FilingWishes
from grayshelf.work import filing as work
from grayshelf.work import filing_underway
from grayshelf.work.jobs import JobControl, Stopped
from tests.helpers import DARK, FLAT, LIGHT, write_fits

KINDS = [DARK, {**DARK, "IMAGETYP": "Bias Frame", "EXPTIME": 0.001}, LIGHT, FLAT, {**DARK, "IMAGETYP": "DARKFLAT", "EXPTIME": 6.5}]  # fmt: skip


def tree(folder: Path) -> dict[str, bytes | None]:
    """Every file and empty folder below one, name for name and byte for byte."""
    found = {}
    for path in sorted(folder.rglob("*")):
        name = os.fsencode(path.relative_to(folder)).decode("utf-8", "surrogateescape")
        if path.is_dir():
            if not any(path.iterdir()):
                found[f"{name}/"] = None
        else:
            found[name] = path.read_bytes()
    return found


def a_heap(folder: Path, seed: int, frames: int = 30) -> None:
    """A tree as nobody keeps one: odd names, notes beside frames, empty folders, frames without a kind, copies."""
    rng = random.Random(seed)
    letters = string.ascii_letters + "äÄéé .-_()°Ж日"
    folders = ["", "a", "a/b c", "Ä", "rejected", "a/deep/er/still", "nights/2026-10-18"]
    for i in range(frames):
        cards = {**rng.choice(KINDS), "DATE-OBS": f"2026-10-{rng.randint(16, 19)}T22:00:{i:02d}"}
        if cards["IMAGETYP"] == "Light Frame":
            cards["OBJECT"] = rng.choice(["M 33", "con", "IC 1396/A: <west>", "..", "m 33"])
        for name in ("GAIN", "CCD-TEMP", "IMAGETYP"):
            if rng.random() < 0.1:
                cards.pop(name)
        name = "".join(rng.choice(letters) for _ in range(rng.randint(1, 12))).strip(" .") or "x"
        path = write_fits(
            folder / rng.choice(folders) / f"{name}{i}{rng.choice(['.fits', '.fit', '.FTS'])}", cards
        )
        if rng.random() < 0.2:
            (path.parent / f"notes{rng.randint(0, 3)}.txt").write_text("seeing 3")
        if rng.random() < 0.1:
            shutil.copy2(path, folder / f"copy of {path.name}")
    (folder / "empty/within").mkdir(parents=True)
    (folder / "only.txt").write_text("mine")


def a_pattern(rng: random.Random) -> str:
    parts = ["kind", "target", "filter", "night", "camera", "exposure", "temperature", "gain", "angle"]
    text = "/".join(
        "_".join(f"{rng.choice(['', 'X-'])}{{{rng.choice(parts)}}}" for _ in range(rng.randint(1, 3)))
        for _ in range(rng.randint(0, 3))
    )
    last = "_".join(f"[{{{rng.choice(parts)}}}]" for _ in range(2))
    return f"{text}/{last}{rng.choice(['{number}', '_{number}', '{name}'])}"


def wishes(root: Path, way=FiledBy.MOVE, patterns=None, along=True) -> FilingWishes:
    return FilingWishes(str(root), {**USUAL, **(patterns or {})}, "unknown", way, along)


def file(own, wanted, choice=None):
    return own.ended(work.start_filing(own.library, own.context.runner, choice or Choice(), wanted, "all"))


def take_back(own, number=None):
    number = number or own.query("SELECT max(id) FROM filing")[0][0]
    return own.ended(work.start_taking_back(own.library, own.context.runner, number))


def frames(own):
    return own.query(
        "SELECT f.id, kind, utc, set_id, state, rejected FROM frame AS f WHERE state != 'gone' ORDER BY f.id"
    )


def on_the_list(own):
    """Every frame that counts lies where the library says."""
    rows = own.query("SELECT d.path, f.path FROM frame f JOIN folder d ON d.id = f.folder_id WHERE f.state IN ('good', 'lacking')")  # fmt: skip
    lost = [f"{root}/{path}" for root, path in rows if not Path(root, path).is_file()]
    assert not lost, lost
    return len(rows)


@pytest.mark.parametrize("seed", range(12))
def test_filed_and_taken_back_any_tree_is_as_it_was(own, tmp_path, seed):
    rng = random.Random(seed)
    heap = tmp_path / "heap"
    a_heap(heap, seed)
    own.scan(heap)
    root = heap if seed % 3 == 0 else heap / "sorted" if seed % 3 == 1 else tmp_path / "sorted"
    before, rows = tree(heap), frames(own)
    contents = sorted(v for v in before.values() if v is not None)
    way = FiledBy.COPY if seed % 4 == 3 else FiledBy.MOVE
    patterns = {sort: a_pattern(rng) for sort in Sort} if seed else {}
    job = file(own, wishes(root, way, patterns))
    assert job["state"] == "done", job
    on_the_list(own)
    after = {**tree(heap), **({} if root.is_relative_to(heap) else tree(root))}
    if way is FiledBy.MOVE:
        assert sorted(v for v in after.values() if v is not None) == contents, "every byte is there once"
    for name in {n for n in after if n not in before}:
        for part in name.split("/"):
            assert (
                part == part.strip(" .")
                and not set(part) & set('<>:"\\|?*')
                and part.lower() not in ("con", "aux")
            ), name
    assert len({n.casefold() for n in after if n not in before}) == len([n for n in after if n not in before])
    assert frames(own) == rows, "sets and marks stay"
    # Filed once more, each is in its place.
    with pytest.raises(GrayShelfError, match="No frame goes anywhere"):
        work.start_filing(own.library, own.context.runner, Choice(), wishes(root, way, patterns), "all")

    own.again()
    assert own.scan(heap)["state"] == "done"
    on_the_list(own)
    job = take_back(own)
    assert job["state"] == "done" and not job["troubles"], job
    shutil.rmtree(root) if not root.is_relative_to(heap) and not tree(root) else None
    assert tree(heap) == before
    on_the_list(own)
    assert [r for r in frames(own) if r[4] in ("good", "lacking")] == [
        r for r in rows if r[4] in ("good", "lacking")
    ]


@pytest.mark.parametrize("way", [FiledBy.MOVE, FiledBy.COPY])
def test_stopped_at_any_moment_it_goes_on_or_back(own, tmp_path, monkeypatch, way):
    heap, root = tmp_path / "heap", tmp_path / "sorted"
    a_heap(heap, 99, 12)
    own.scan(heap)
    before, whole = tree(heap), JobControl.check
    monkeypatch.setattr(filing_underway, "AT_ONCE", 4)
    contents = {v for v in before.values() if v}
    for stop_at in range(1, 12):
        calls = []

        def stopping(control, calls=calls, stop_at=stop_at):
            calls.append(1)
            if len(calls) == stop_at:
                raise Stopped
            whole(control)

        monkeypatch.setattr(JobControl, "check", stopping)
        job = file(own, wishes(root, way))
        monkeypatch.setattr(JobControl, "check", whole)
        on_the_list(own)
        assert {
            v for v in {**tree(heap), **{f"r/{k}": v for k, v in tree(root).items()}}.values() if v
        } == contents
        if job["state"] == "stopped" and stop_at % 2:
            own.client.post(f"/api/jobs/{job['id']}/resume")
            assert own.ended(job["id"])["state"] == "done"
            on_the_list(own)
        take_back(own)
        assert tree(heap) == before and not [n for n in tree(root) if not n.endswith("/")], stop_at


@pytest.mark.parametrize("step", ["let_source_go", "let_target_go"])
def test_ended_before_an_old_name_is_gone_nothing_is_left_behind(own, tmp_path, monkeypatch, step):
    heap, root = tmp_path / "heap", tmp_path / "sorted"
    a_heap(heap, 5, 12)
    own.scan(heap)
    before, real = tree(heap), getattr(work, step)

    def ends(_):
        monkeypatch.setattr(work, step, real)
        raise Stopped

    monkeypatch.setattr(work, step, ends)
    for job in (file(own, wishes(root)), None):
        job = job or take_back(own)
        if job["state"] == "stopped":
            own.client.post(f"/api/jobs/{job['id']}/resume")
            assert own.ended(job["id"])["state"] == "done"
    assert tree(heap) == before and not [n for n in tree(root) if not n.endswith("/")]
    on_the_list(own)


def test_to_another_disk_without_links_or_room_and_what_stands_in_the_way(own, tmp_path, monkeypatch):
    heap, root = tmp_path / "heap", tmp_path / "sorted"
    for i in range(8):
        write_fits(heap / f"d{i}.fits", {**DARK, "DATE-OBS": f"2026-10-18T22:0{i}:00"})
    own.scan(heap)
    before = tree(heap)
    plan = work.plan_filing(own.library, Choice(), wishes(root)).going
    (root / plan[0].path).parent.mkdir(parents=True)
    real_link = os.link

    # Another disk: copied, read back, then removed; one changes meanwhile, one is gone, one has its name taken.
    def link_refused(code):
        def refused(source, target, **more):
            if code == errno.EXDEV and str(source).endswith(".part"):
                return real_link(source, target)
            raise OSError(code, os.strerror(code))

        return refused

    monkeypatch.setattr(bringing.os, "link", link_refused(errno.EXDEV))
    number = own.context.runner
    job_id = None
    with number.changing:
        job_id = work.start_filing(own.library, number, Choice(), wishes(root), "all")
        Path(plan[1].frame.path).unlink()
        with Path(plan[2].frame.path).open("ab") as stream:
            stream.write(b"more")
        (root / plan[3].path).write_bytes(b"mine")
    job = own.ended(job_id)
    told = {t.partition(": ")[0].rpartition("/")[2]: t for t in job["troubles"]}
    assert set(told) == {Path(plan[i].frame.path).name for i in (1, 2, 3)}, job
    assert (root / plan[3].path).read_bytes() == b"mine" and Path(plan[3].frame.path).is_file()
    assert not list(root.rglob("*.part"))
    moved = [p for i, p in enumerate(plan) if i not in (1, 2, 3)]
    assert all((root / p.path).read_bytes() == before[Path(p.frame.path).name] for p in moved)
    assert take_back(own)["state"] == "done"
    assert {k: v for k, v in tree(heap).items() if v == before[k]}.keys() >= {
        Path(p.frame.path).name for p in moved
    }

    # A disk without hard links, as FAT is: the rename takes the place of an empty file of ours.
    monkeypatch.setattr(bringing.os, "link", link_refused(errno.EPERM))
    own.scan(heap)
    now = tree(heap)
    (root / plan[3].path).unlink()
    job = file(own, wishes(root))
    assert job["state"] == "done" and not job["troubles"], job
    assert set(tree(root).values()) == set(now.values()) and not tree(heap)
    take_back(own)
    assert tree(heap) == now
    monkeypatch.setattr(bringing.os, "link", real_link)

    # Two at once, a folder of the library's, a pattern that names all alike: refused, nothing changed.
    with number.changing:
        job_id = work.start_filing(own.library, number, Choice(), wishes(root), "all")
        with pytest.raises(GrayShelfError, match="goes on just now"):
            work.start_filing(own.library, number, Choice(), wishes(root), "all")
    own.ended(job_id)
    take_back(own)
    for wrong in (wishes(own.root / "in"), wishes(tmp_path / "no/where"), wishes(root, patterns={Sort.LIGHTS: "{target}/{filter}"}),
                  wishes(root, patterns={Sort.FLATS: "a:{number}"}), wishes(root, patterns={Sort.FLATS: "[{kind}"}), wishes(root, patterns={Sort.FLATS: "../{number}"})):  # fmt: skip
        with pytest.raises(GrayShelfError):
            work.start_filing(own.library, number, Choice(), wrong, "all")
    assert tree(heap) == now


def test_names_have_what_was_dialled_and_are_read_again_by_the_same_pattern(own, tmp_path):
    heap, root = tmp_path / "heap", tmp_path / "sorted"
    for i in range(4):
        cards = {
            **LIGHT,
            "EXPTIME": 179.99 + i / 100,
            "CCD-TEMP": -10.2 + i / 10,
            "DATE-OBS": f"2026-10-18T23:0{i}:00",
        }
        write_fits(heap / f"l{i}.fits", cards)
    own.scan(heap)
    pattern = "{night}/{target}/{kind}_{filter}_{exposure}_{temperature}_{gain}_{number}"
    assert file(own, wishes(root, patterns={Sort.LIGHTS: pattern}))["state"] == "done"
    names = sorted(p.relative_to(root).as_posix() for p in root.rglob("*.fits"))
    assert names == [f"2026-10-18/NGC_6888/light_SII_180s_-10C_200_000{i}.fits" for i in range(1, 5)]
    read = name_pattern(pattern).read(names[0]).saying
    assert (read.exposure_s, read.sensor_temp_c, read.gain, read.filter_code) == (180.0, -10.0, 200.0, "SII")


def test_what_a_person_said_stays_and_masters_built_here_are_copied(own, tmp_path):
    heap, root = tmp_path / "heap", tmp_path / "sorted"
    for i in range(6):
        write_fits(heap / f"darks/d{i}.fits", {**DARK, "DATE-OBS": f"2026-10-18T22:0{i}:00"})
        write_fits(heap / f"rejected/l{i}.fits", {**LIGHT, "DATE-OBS": f"2026-10-18T23:0{i}:00"})
    own.scan(heap)
    own.build()
    own.client.post("/api/mend", json={"choice": {"name_has": "d0"}, "saying": {}, "kept": False})
    own.client.post("/api/mend", json={"choice": {"name_has": "d1"}, "saying": {"offset": 12}})
    own.wait_until_idle()
    marks = own.query("SELECT id, rejected, json_extract(facts, '$.offset') FROM frame ORDER BY id")
    own_files = tree(own.root / "masters")
    assert file(own, wishes(root))["state"] == "done"
    assert own.query("SELECT id, rejected, json_extract(facts, '$.offset') FROM frame ORDER BY id") == marks
    assert tree(own.root / "masters") == own_files
    masters = list((root / "0_masters").rglob("*.fits"))
    assert len(masters) == 1 and masters[0].read_bytes() in own_files.values()
    with pytest.raises(GrayShelfError, match="No frame goes anywhere"):
        file(own, wishes(root))
    assert not [p for p in work.plan_filing(own.library, Choice(), wishes(root)).placed if p.stays]
    # Read again where they are now, they still are what they were.
    own.scan(root)
    assert own.query("SELECT id, rejected, json_extract(facts, '$.offset') FROM frame WHERE state != 'duplicate' ORDER BY id") == marks  # fmt: skip
    assert own.query("SELECT count(*) FROM frame WHERE state = 'duplicate'") == [(1,)]
    take_back(own)
    assert not masters[0].exists() and tree(own.root / "masters") == own_files


def test_a_folder_that_was_filed_into_can_be_taken_off_and_its_number_wishes_nothing(own, tmp_path):
    heap, root = tmp_path / "heap", tmp_path / "sorted"
    write_fits(heap / "d.fits", {**DARK, "DATE-OBS": "2026-10-18T22:00:00"})
    own.scan(heap)
    assert file(own, wishes(root))["state"] == "done"
    folders = {f["path"]: f["id"] for f in own.get("/api/intake")["folders"]}
    for body in ("filing/from-now-on", {"folder_ids": [folders[str(root)]]}), (f"folders/{folders[str(root)]}/watched", {"watched": True}):  # fmt: skip
        assert own.client.put(f"/api/{body[0]}", json=body[1]).status_code == 200
    assert own.client.delete(f"/api/folders/{folders[str(root)]}").status_code == 200
    # The next folder gets its number, and neither its wishes nor its watch.
    other = tmp_path / "other"
    write_fits(other / "e.fits", {**DARK, "DATE-OBS": "2026-10-18T23:00:00"})
    own.scan(other)
    now = {f["path"]: f for f in own.get("/api/intake")["folders"]}
    assert now[str(other)]["id"] == folders[str(root)] and not now[str(other)]["watched"]
    assert own.get("/api/filing")["from_now_on"] == [] and (other / "e.fits").is_file()


def test_nothing_is_filed_into_the_place_of_a_disk_that_is_not_in(own, tmp_path):
    """Its mount point may be gone, or an empty folder: frames that are moved there would be hidden once the disk is in."""
    heap, root = tmp_path / "heap", tmp_path / "disk" / "sorted"
    write_fits(heap / "d.fits", {**DARK, "DATE-OBS": "2026-10-18T22:00:00"})
    root.parent.mkdir()
    own.scan(heap)
    assert file(own, wishes(root))["state"] == "done"
    write_fits(heap / "e.fits", {**DARK, "DATE-OBS": "2026-10-18T23:00:00"})
    own.scan(heap)
    root.rename(tmp_path / "away")
    for mount_point in (False, True):
        if mount_point:
            root.mkdir()
        # The folder itself, and one in it.
        for into in (root, *([root / "more"] if mount_point else [])):
            with pytest.raises(DiskOut, match="its disk may not be in"):
                file(own, wishes(into))
    root.rmdir()
    heap_id = own.query("SELECT min(id) FROM folder WHERE NOT own")[0][0]
    own.client.put("/api/filing/from-now-on", json={"folder_ids": [heap_id]})
    write_fits(heap / "f.fits", {**DARK, "DATE-OBS": "2026-10-18T23:30:00"})
    told = own.scan(heap)
    assert told["state"] == "done" and "its disk may not be in" in told["troubles"][0]
    (tmp_path / "away").rename(root)
    assert file(own, wishes(root))["state"] == "done" and len(list(root.rglob("*.fits"))) == 3
