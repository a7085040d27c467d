"""What is served, and to whom."""

from __future__ import annotations

import csv
import gzip
import io
import json
import re
from importlib import import_module
from pathlib import Path

import pytest
from pydantic import BaseModel
from sqlalchemy import select

from grayshelf.library.models import Folder, Frame
from grayshelf.web import bench, common, flats, intake, nights, shelf, tonight, twilight, whole
from grayshelf.web.exports import csv_response

ROOT = Path(__file__).parents[2]


def test_only_this_machine_and_only_our_own_pages(client):
    assert client.get("/api/state").status_code == 200
    assert client.get("/api/state", headers={"Host": "evil.example"}).status_code == 403
    assert (
        client.post("/api/clock", json={"fast": True}, headers={"Origin": "http://evil.example"}).status_code
        == 403
    )
    assert (
        client.post("/api/clock", json={"fast": True}, headers={"Origin": "http://localhost"}).status_code
        == 200
    )
    policy = client.get("/api/state").headers["Content-Security-Policy"]
    assert "default-src 'self'" in policy


def test_paths_outside_the_named_folders_are_not_served(client, context, tmp_path):
    secret = tmp_path / "secret.fits"
    with context.library.db.session() as session:
        frame = session.scalar(select(Frame).where(Frame.kind == "light"))
        source = Path(frame.folder.path) / frame.path
        secret.write_bytes(source.read_bytes())
        kept = frame.path
        frame.path = "../" * 12 + str(secret).lstrip("/")
        frame_id = frame.id
    answer = client.get(f"/api/frames/{frame_id}/picture.png")
    with context.library.db.session() as session:
        session.get_one(Frame, frame_id).path = kept
    assert answer.status_code == 403
    assert "not in a folder that you named" in answer.json["detail"]
    for path in ("/../../../etc/passwd", "/%2e%2e/%2e%2e/etc/passwd", "/assets/../../cli.py"):
        assert b"root:" not in client.get(path).data
        assert b"argparse" not in client.get(path).data


def test_every_error_is_a_problem_document(client):
    for path, status in (
        ("/api/nothing", 404), ("/api/holdings/99999", 404), ("/api/lights/99999/slip", 404),
        ("/api/rigs/99/tonight", 404), ("/api/rigs/1/nights/yesterday", 400), ("/api/frames/99999/picture.png", 404),
        ("/api/sets?page=0", 422), ("/api/rigs/1/tonight?frames=100000", 422),
    ):  # fmt: skip
        answer = client.get(path)
        assert answer.status_code == status, path
        assert answer.mimetype == "application/problem+json", path
        assert answer.json["title"]
        assert answer.json["detail"], path
    assert client.post("/api/jobs/1/dance").status_code == 404
    assert client.post("/api/jobs/999/resume").status_code == 404
    assert client.post("/api/jobs/1/stop").status_code == 409
    assert client.post("/api/jobs/1/answer", json={"step_id": 1, "answer": "done"}).status_code == 409
    assert (
        client.post("/api/runs", json={"rig_id": 3, "frames": 25, "leave_out": [], "add": []}).status_code
        == 409
    )


SCHEMAS = [
    import_module(f"{place.__name__}.schemas")
    for place in (bench, common, flats, intake, nights, shelf, tonight, twilight, whole)
]


def _is_own(made_of, module):
    return (
        isinstance(made_of, type) and issubclass(made_of, BaseModel) and made_of.__module__ == module.__name__
    )


def test_the_document_and_the_typed_client_are_current(client):
    kept = json.loads((ROOT / "docs" / "openapi.json").read_text())
    with client.application.app_context():
        made = json.loads(json.dumps(client.application.spec))
    assert made["paths"] == kept["paths"], "run 'make types'"
    assert made["components"] == kept["components"], "run 'make types'"
    named = [name for module in SCHEMAS for name, made_of in vars(module).items() if _is_own(made_of, module)]
    assert len(named) == len(set(named)), "two schemas of one name would be told as one"
    types = (ROOT / "frontend/src/api/schema.d.ts").read_text()
    for name in made["components"]["schemas"]:
        assert f"        {name}: " in types, f"{name} is not in the typed client: run 'make types'"


def test_tables_come_as_csv_that_spreadsheets_do_not_run(client):
    for path in ("rigs/1/nights.csv", "rigs/1/shelf.csv", "sets.csv", "problems.csv"):
        answer = client.get(f"/api/{path}")
        rows = list(csv.reader(io.StringIO(answer.text.lstrip("\ufeff"))))
        assert len(rows) > 3
        assert len({len(r) for r in rows}) == 1, path
    text = csv_response([["=cmd()", "-10", "−10", "-x", 5, None]], "x").get_data(as_text=True)
    assert text.strip("\ufeff\r\n") == "'=cmd(),-10,−10,'-x,5,"


def test_scripts_and_styles_go_out_packed_to_those_who_can_unpack_them(client):
    page = client.get("/").text
    for name in re.findall(r"/assets/[^\"]+\.(?:js|css)", page):
        plain = client.get(name)
        packed = client.get(name, headers={"Accept-Encoding": "gzip, br"})
        assert "Content-Encoding" not in plain.headers
        assert packed.headers["Content-Encoding"] == "gzip"
        assert packed.mimetype == plain.mimetype
        assert len(packed.data) < 0.4 * len(plain.data)
        assert gzip.decompress(packed.data) == plain.data


@pytest.mark.parametrize("rig", [1, 2, 3])
def test_every_place_of_every_rig_answers(client, rig):
    shelf = client.get(f"/api/rigs/{rig}/shelf").json
    for spine in (*shelf["darks"]["spines"], *shelf["flats"]["spines"], *shelf["bias"]):
        card = client.get(f"/api/holdings/{spine['id']}")
        assert card.status_code == 200
        assert card.json["figures"]
    for night in client.get(f"/api/rigs/{rig}/nights").json["nights"]:
        page = client.get(f"/api/rigs/{rig}/nights/{night['night']}").json
        for lights in page["sets"]:
            slip = client.get(f"/api/lights/{lights['id']}/slip").json
            assert slip["verdict"] == lights["verdict"]
            assert client.get(f"/api/lights/{lights['id']}/slip.csv").status_code == 200
    assert client.get(f"/api/rigs/{rig}/tonight").status_code == 200


def test_what_is_wrong_on_purpose_in_the_scenario_is_found(client, context):
    shelf = client.get("/api/rigs/1/shelf").json
    gaps = {(g["kind"], g["filter_code"], g["column"]) for g in shelf["gaps"]}
    assert gaps == {("dark", None, "300"), ("flat", "SII", "SII"), ("flat", "L", "L")}
    flats_r = next(x for x in shelf["flats"]["spines"] if x["column"] == "R")
    left_out = [i for i in client.get(f"/api/holdings/{flats_r['id']}").json["inputs"] if not i["used"]]
    assert len(left_out) == 1, "one frame of R went through G"
    assert "above the others" in left_out[0]["reason"]
    # Across the meridian without a rotator: one flat serves both sides of the pier.
    night = client.get("/api/rigs/2/nights/2026-09-26").json
    assert len(night["sets"]) == 2
    chosen = set()
    for lights in night["sets"]:
        flat = next(
            x for x in client.get(f"/api/lights/{lights['id']}/slip").json["lines"] if x["kind"] == "flat"
        )
        chosen.add(flat["chosen"]["holding_id"])
        angle = next(r for r in flat["chosen"]["rulers"] if r["quantity"] == "angle")
        assert angle["inside"]
    assert len(chosen) == 1
    before = next(n for n in client.get("/api/rigs/2/nights").json["nights"] if n["night"] == "2026-08-28")
    slip = client.get(
        f"/api/lights/{client.get('/api/rigs/2/nights/2026-08-28').json['sets'][0]['id']}/slip"
    ).json
    lost = [c["lost_on"] for c in next(x for x in slip["lines"] if x["kind"] == "flat")["runners_up"]]
    assert any("re-spaced" in reason for reason in lost), before
    with context.library.db.session() as session:
        states = [f.state for f in session.scalars(select(Frame))]
        assert states.count("duplicate") == 1
        assert states.count("unreadable") == 2
        assert session.scalar(select(Folder).where(Folder.own)) is not None
