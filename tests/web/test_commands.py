"""The command line: the same answers as the page, with and without a server, and exit codes that a script can use."""

from __future__ import annotations

import io
import json
import socket
import sqlite3
import threading
import zipfile
from argparse import Namespace
from datetime import UTC, datetime, timedelta

import pytest
import waitress

from grayshelf.cli import main
from grayshelf.command_line import commands
from grayshelf.command_line.asking import Asking, OverHttp
from grayshelf.core.errors import GrayShelfError
from grayshelf.core.filing.backups import is_due, to_drop
from tests.helpers import DARK, FLAT, LIGHT, write_fits
from tests.own import Own


@pytest.fixture
def frames(tmp_path):
    for i in range(6):
        write_fits(tmp_path / f"frames/lights/l{i}.fits", {**LIGHT, "DATE-OBS": f"2026-10-18T23:0{i}:00"})
        write_fits(tmp_path / f"frames/darks/d{i}.fits", {**DARK, "DATE-OBS": f"2026-10-18T21:0{i}:00"})
        write_fits(tmp_path / f"frames/flats/f{i}.fits", {**FLAT, "DATE-OBS": f"2026-10-18T20:0{i}:00"})
    return tmp_path / "frames"


@pytest.fixture(params=["in process", "over http"])
def run(request, tmp_path, capsys):
    """A command with the library's folder put in; its exit code, and what it printed."""
    root, server, own = tmp_path / "library", None, Own(tmp_path / "library")
    if request.param == "over http":
        server = waitress.create_server(own.context and _app(own), host="127.0.0.1", port=0, threads=4)
        threading.Thread(target=server.run, daemon=True).start()
        own.library.lock.says(f"http://127.0.0.1:{server.effective_port}/")
    else:
        own.close()

    def command(*words):
        code = main([words[0], "--library", str(root), "--quiet", *map(str, words[1:])])
        told = capsys.readouterr()
        return code, told.out, told.err

    yield command
    if server is not None:
        server.close()
        own.close()


def _app(own):
    return own.client.application


def test_a_season_by_cron(run, frames, tmp_path):
    assert run("match", frames / "lights")[0] == 4, "not scanned yet"
    assert run("scan")[0] == 1, "no folder is on the list"
    code, out, _ = run("scan", frames)
    assert code == 0 and "18 new or changed" in out
    assert run("scan")[:1] == (0,)

    code, out, _ = run("match", "--json", frames / "lights")
    told = json.loads(out)
    assert (code, told["verdict"]) == (4, "nothing fits"), "there is no dark flat"
    lines = {x["kind"]: x["verdict"] for x in told["matched"][0]["slip"]["lines"]}
    assert lines["dark"] != "nothing fits" and lines["dark flat"] == "nothing fits"
    assert told["matched"][0]["frames"] == 6 and json.loads(run("match", "--json", frames / "lights/l0.fits")[1])["matched"][0]["frames"] == 1  # fmt: skip
    for i in range(6):
        write_fits(frames / f"df/d{i}.fits", {**DARK, "IMAGETYP": "DARKFLAT", "EXPTIME": 6.5, "DATE-OBS": f"2026-10-18T20:3{i}:00"})  # fmt: skip
    assert run("scan")[0] == 0
    assert run("match", frames / "lights")[0] in (0, 3)

    code, out, _ = run("hand-over", tmp_path / "out.zip", "--lights", frames / "lights", "--form", "raw")
    names = zipfile.ZipFile(tmp_path / "out.zip").namelist()
    assert code in (0, 3) and sum("light" in n for n in names) >= 6 and zipfile.ZipFile(tmp_path / "out.zip").testzip() is None  # fmt: skip
    assert run("hand-over", tmp_path / "out.zip", "--lights", frames / "lights")[0] == 1
    assert run("hand-over", tmp_path / "out", "--lights", frames / "lights")[0] in (0, 3)
    assert (tmp_path / "out").is_dir() and not list(tmp_path.glob("*.part"))

    code, out, _ = run("file", "--into", tmp_path / "sorted", "--try")
    assert "24 to file" in out and not (tmp_path / "sorted").exists()
    assert run("file", "--into", tmp_path / "sorted", "--copy", "--folder", frames / "lights")[0] == 0
    assert len(list((tmp_path / "sorted").rglob("*.fits"))) == 6 and len(list(frames.rglob("*.fits"))) == 24
    assert run("file", "--folder", tmp_path / "elsewhere")[0] == 1

    # From now on the copies count. The lights are asked for where they were taken, all the same.
    assert run("scan", frames)[0] == 0
    told = json.loads(run("match", "--json", frames / "lights")[1])
    assert [m["frames"] for m in told["matched"]] == [6] and not told["not_known"]
    both = json.loads(run("match", "--json", frames / "lights", tmp_path / "sorted")[1])
    assert [m["frames"] for m in both["matched"]] == [6], "each light counts once"
    assert run("hand-over", tmp_path / "out2.zip", "--lights", frames / "lights/l0.fits")[0] in (0, 3)

    (tmp_path / "sorted").rename(tmp_path / "pulled")
    write_fits(frames / "darks/late.fits", {**DARK, "DATE-OBS": "2026-10-18T21:30:00"})
    code, out, said = run("scan")
    assert code == 1 and "is not there" in said and "1 new or changed" in out, (
        "the other folder is scanned all the same"
    )
    (tmp_path / "pulled").rename(tmp_path / "sorted")
    assert run("scan")[0] == 0

    code, out, _ = run("combine")
    assert code == 3 and "2 masters built; 1 could not be" in out, (
        "these flats are as dark as their dark flats"
    )
    write_fits(frames / "darks/later.fits", {**DARK, "DATE-OBS": "2026-10-18T21:40:00"})
    assert run("scan")[0] == 0 and "0 masters built; 1" in run("combine")[1], "the dark has its master"
    assert "1 master built; 1" in run("combine", "--grown")[1]
    for flat in frames.glob("flats/*.fits"):
        flat.unlink()
    assert run("scan")[0] == 0
    nothing = json.loads(run("combine", "--grown", "--json")[1])
    assert nothing["message"].startswith("Nothing to combine")
    assert "Nothing to combine" in run("combine")[1], "what is missing is waited for"

    assert run("verify")[0] == 0
    (frames / "darks/d0.fits").unlink()
    assert run("verify")[0] == 3
    copy = tmp_path / "copy.db"
    assert run("backup", "--to", copy)[0] == 0
    count = sqlite3.connect(copy).execute("SELECT count(*) FROM frame").fetchone()[0]
    assert count >= 24 and run("backup", "--to", copy)[0] == 1 and run("backup")[0] == 0
    code, _, said = run("backup", "--to", tmp_path / "not mounted/copy.db")
    assert code == 1 and "There is no folder" in said and not (tmp_path / "not mounted").exists()


def test_what_cannot_be_is_said_on_one_line(tmp_path, capsys):
    assert main(["scan", "--library", str(tmp_path / "none"), str(tmp_path)]) == 1
    assert "no library to open" in (said := capsys.readouterr().err) and "scan into it with --new" in said
    (tmp_path / "frames").mkdir()
    assert main(["scan", "--library", str(tmp_path / "none"), "--new", str(tmp_path / "frames")]) == 0
    assert "0 new sets" in capsys.readouterr().out and (tmp_path / "none").is_dir()
    with pytest.raises(SystemExit) as ended:
        main(["match"])
    assert ended.value.code == 2


def test_the_exit_code_tells_where_nobody_reads_what_is_printed(monkeypatch, capfd):
    def nobody_reads(*args, **options):
        raise BrokenPipeError

    monkeypatch.setattr("builtins.print", nobody_reads)
    commands._say(Namespace(json=False), "all of it", {})
    monkeypatch.undo()
    print("is not written any more", flush=True)
    assert capfd.readouterr().out == ""


@pytest.mark.parametrize("encoding", ["ascii", "latin-1", "cp1252"])
def test_a_terminal_that_does_not_know_every_sign_is_told_by_plain_ones(
    monkeypatch, frames, tmp_path, encoding
):
    def told(*words):
        written = io.BytesIO()
        monkeypatch.setattr("sys.stdout", io.TextIOWrapper(written, encoding))
        main([words[0], "--library", str(tmp_path / "library"), "--quiet", *words[1:]])
        return written.getvalue().decode(encoding)

    kept = frames.rename(tmp_path / "Дарки")
    told("scan", "--new", str(kept))
    matched = told("match", str(kept))
    assert "Dark 300 s, -10 " in matched, "a minus is never lost"
    assert matched.startswith("2026-10-18, NGC 6888, SII, 6 "), "sets of several nights are told apart"
    (slip,) = json.loads(told("match", "--json", str(kept)))["matched"]
    assert slip["night"] == "2026-10-18" and "−" in json.dumps(slip, ensure_ascii=False)


def test_copies_are_kept_by_their_age():
    now = datetime(2026, 11, 29, 4, tzinfo=UTC)
    assert (
        is_due(None, now)
        and is_due(now - timedelta(days=1), now)
        and not is_due(now - timedelta(hours=3), now)
    )
    assert is_due(now + timedelta(days=400), now), "a clock that was wrong keeps no night without a copy"
    kept: list[datetime] = []
    for night in range(500):
        at = now + timedelta(days=night)
        kept = [k for k in [*kept, at] if k not in to_drop([*kept, at], at)]
        assert at in kept
    ages = sorted((kept[-1] - k).days for k in kept)
    assert ages[:7] == list(range(7)) and len(ages) <= 7 + 8 + 13
    gaps = [b - a for a, b in zip(ages, ages[1:], strict=False)]
    assert (
        max(g for a, g in zip(ages, gaps, strict=False) if a < 42) <= 14
        and max(gaps) <= 60
        and ages[-1] >= 300
    )


@pytest.mark.parametrize(
    "said", [b"", b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nwhole\r\n9\r\ncut"]
)
def test_an_application_that_ends_in_the_middle_of_its_answer_is_told(tmp_path, said):
    with socket.create_server(("127.0.0.1", 0)) as listening:

        def answer():
            for _ in range(2):
                with listening.accept()[0] as one:
                    one.recv(4096)
                    one.sendall(said)

        threading.Thread(target=answer, daemon=True).start()
        asking = Asking(OverHttp(f"http://127.0.0.1:{listening.getsockname()[1]}/"), quiet=True)
        for ask in (lambda: asking.get("/api/state"), lambda: asking.save("/api/x.zip", tmp_path / "x.zip")):
            with pytest.raises(GrayShelfError, match="does not answer to the end"):
                ask()
    assert list(tmp_path.iterdir()) == [], "half a file is none"
