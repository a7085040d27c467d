"""A run by hand, begun and obeyed as its page says."""

from __future__ import annotations

import json
import time

import pytest

from grayshelf.core.planning.by_hand import NBSP
from tests.other_program import Program, write_lights
from tests.own import Own
from tests.waiting import asked_until


@pytest.fixture
def own(tmp_path):
    """Lights of last evening in two filters, by another program; nothing else, and no devices."""
    folder = tmp_path / "lights"
    program = Program(folder)
    write_lights(folder)
    library = Own(tmp_path / "library")
    library.scan(folder)
    (tmp_path / "camera").mkdir()
    program.folder = tmp_path / "camera"
    library.program = program
    yield library
    library.close()


def begin(own, folder, **choice):
    rig = own.get("/api/state")["rigs"][0]["id"]
    body = {
        "rig_id": rig,
        "frames": 4,
        "leave_out": [],
        "add": [],
        "by_hand": True,
        "folder": folder,
        **choice,
    }
    answer = own.client.post("/api/runs", json=body)
    assert answer.status_code == 200, answer.text
    return answer.json["job_id"]


def run(own):
    """The run, with plain spaces."""
    return json.loads(json.dumps(own.get("/api/rigs/1/run")["run"], ensure_ascii=False).replace(NBSP, " "))


def until(own, right, seconds=20.0):
    return asked_until(lambda: run(own), right, seconds, lambda p: (p["headline"], p["hand"], p["job"]))


def found_r(own, **choice):
    """Begin, and find R's exposure; return it."""
    program = own.program
    begin(own, str(program.folder), **choice)
    for _ in range(8):
        hand = until(own, lambda p: p["hand"] is not None)["hand"]
        dials = {d["name"]: d["copied"] for d in hand["dials"]}
        if hand["kind"] == "flats":
            return float(dials["exposure"]), dials["filter"]
        if "exposure" not in dials:
            time.sleep(0.1)
            continue
        program.set["filter"] = dials["filter"]
        program.shoot("FLAT", float(dials["exposure"]))
        until(own, lambda p, what=hand["what"]: p["hand"] is not None and p["hand"]["what"] != what)
    raise AssertionError("no exposure was found")


def obey(own, program):
    """Do what the line says until nothing is asked for any more: frame by frame, and behind the cap all in one go, as a
    program's sequence does."""
    asked, deadline = list[str](), time.monotonic() + 120.0
    while time.monotonic() < deadline:
        page = run(own)
        if page["job"]["state"] not in ("queued", "running"):
            return asked
        hand = page["hand"]
        if hand is None:
            time.sleep(0.1)
            continue
        dials = {d["name"]: d["copied"] for d in hand["dials"]}
        if hand["kind"] in ("find", "flats"):
            told = {"filter": str, "focus": int, "angle": float}
            program.set |= {name: kind(dials[name]) for name, kind in told.items() if name in dials}
        if "exposure" not in dials:
            time.sleep(0.1)
            continue
        kind = {"find": "FLAT", "flats": "FLAT", "dark flats": "DARKFLAT", "darks": "DARK"}[hand["kind"]]
        if not asked or asked[-1] != hand["what"]:
            asked.append(hand["what"])
        program.set["gain"] = int(dials["gain"])
        if "lit for" in dials:
            program.set["lit"] = float(dials["lit for"])
        before = (hand["step_id"], len(hand["refused"]), hand["what"])
        shots = hand["count"] - hand["done"] if kind in ("DARK", "DARKFLAT") else 1
        for _ in range(shots):
            program.shoot(kind, float(dials["exposure"]))
        until(
            own,
            lambda p, before=before, done=hand["done"] + shots: (
                p["hand"] is None
                or (p["hand"]["step_id"], len(p["hand"]["refused"]), p["hand"]["what"]) != before
                or p["hand"]["done"] >= done
            ),
        )
        # A hand is not so quick: by then the line has said what comes next.
        time.sleep(0.4)
    raise AssertionError("it never ends")
