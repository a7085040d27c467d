"""Flat settings where a hand does what the rig cannot; and what flats shot later say of a setting."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

import pytest
from sqlalchemy import select

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.library.facts_json import facts_to_json
from grayshelf.library.models import FlatSetting, Frame, FrameSet, Job, RunShot, RunStep
from tests.pages import say_at
from tests.web.test_flats import HA, LUM, SII, find, ok, page, row_of, until

__all__ = ["page", "until"]


@pytest.fixture
def by_hand(context):
    """Heron 92 with a panel and a filter drawer that only a hand can set, and the world it stands in."""
    rigs = context.flats.rigs
    before = rigs["heron"]
    rigs["heron"] = replace(before, panel=None, wheel=None)
    yield before.camera._world
    rigs["heron"] = before


def obey(client, until, world, before=None):
    """Do what every gate says until the search has ended, or before a gate; return the gates."""
    asked = []
    for _ in range(30):
        sheet = until(lambda s: s["job"] is None or s["gate"])
        if sheet["job"] is None or sheet["gate"]["title"] == before:
            return asked
        gate = sheet["gate"]
        asked.append(gate["title"])
        if gate["sign"] == "brightness":
            assert gate["title"].startswith("Set Lumen tile to ")
            world.change(brightness=int(gate["title"].rsplit(" ", 1)[1]))
        if gate["sign"] == "filter":
            world.change(wheel=world.model.filters.index(gate["title"].removesuffix(" in")))
        ok(say_at(client, gate))
        until(lambda s, gate=gate: s["gate"] != gate)
    raise AssertionError(asked)


def test_it_says_what_to_set_the_panel_to_and_waits(client, page, until, by_hand):
    ok(client.post("/api/rigs/1/flats/rows", json={"keys": [HA, SII], "changes": {"mode": "brightness"}}))
    find(client, [HA, SII])
    asked = obey(client, until, by_hand)
    assert {row_of(page(), k)["state"] for k in (HA, SII)} == {"found"}
    assert asked.count("Ha in") == asked.count("SII in") == 1, "each filter is asked for once"
    dials = [a for a in asked if a.startswith("Set")]
    assert len(dials) == len(set(zip(dials, dials[1:], strict=False))) + 1, (
        "never to what it is set to already"
    )
    for key in (HA, SII):
        row = row_of(page(), key)
        assert row["ruler"]["inside"] and f"Set Lumen tile to {row['brightness']}" in dials


def test_where_only_the_time_is_looked_for_the_panel_is_set_once(client, page, until, by_hand):
    ok(
        client.post(
            "/api/rigs/1/flats/rows", json={"keys": [HA, SII], "changes": {"mode": "time", "brightness": 60}}
        )
    )
    find(client, [HA, SII])
    asked = obey(client, until, by_hand)
    assert asked.count("Set Lumen tile to 60") == 1
    assert all(row_of(page(), k)["brightness"] == "60" for k in (HA, SII))
    ok(
        client.post(
            "/api/rigs/1/flats/rows", json={"keys": [HA, SII], "changes": {"mode": None, "brightness": None}}
        )
    )


def test_a_row_is_tried_again_in_the_search_that_goes_on(client, page, until, by_hand):
    """One has no answer; its bound is widened while the next still waits for its filter."""
    light = next(s for s in page()["sources"] if s["name"] == "Lumen tile")
    ok(client.put("/api/rigs/1/sheets/light", json={**light, "diffusers": []}))
    job = find(client, [LUM, SII])
    waiting = client.post("/api/rigs/1/flats/again", json={"key": LUM})
    assert waiting.status_code == 409 and "still being looked for" in waiting.text
    obey(client, until, by_hand, before="SII in")
    allow = row_of(page(), LUM)["no_answer"]["allow_changes"]
    changes = {"shortest_s": allow["shortest_s"]}
    again = ok(client.post("/api/rigs/1/flats/again", json={"key": LUM, "changes": changes}))
    assert again["job_id"] == job, "in the same search"
    obey(client, until, by_hand)
    assert {row_of(page(), k)["state"] for k in (LUM, SII)} == {"found"}
    ok(client.put("/api/rigs/1/sheets/light", json=light))
    ok(client.post("/api/rigs/1/flats/rows", json={"keys": [LUM], "changes": {"shortest_s": None}}))


@pytest.mark.parametrize(
    ("wrong", "said"),
    [
        ({"name": " "}, "needs a name"),
        ({"lowest": 255, "highest": 18}, "Brightness goes"),
        ({"lowest": None}, "Brightness goes"),
        ({"pulse_hz": 0.5}, "Pulses lie between"),
        ({"diffusers": [{"name": "a", "stops": 1.0}, {"name": "a", "stops": 2.0}]}, "name of its own"),
        ({"diffusers": [{"name": "a", "stops": 40.0}]}, "stops each"),
    ],
)
def test_a_light_that_cannot_be_is_refused_in_words(client, page, wrong, said):
    light = next(s for s in page()["sources"] if s["name"] == "Lumen tile")
    refused = client.put("/api/rigs/1/sheets/light", json={**light, **wrong})
    assert refused.status_code == 400 and said in refused.text
    assert next(s for s in page()["sources"] if s["name"] == "Lumen tile") == light, "nothing was changed"


def flats_shot(context, key, level, *, of_sky=False, exposure=None, hours=1.0):
    """Flats as a run leaves them: a set, a frame and what the frame measured."""
    with context.library.db.session() as session:
        setting = session.scalars(
            select(FlatSetting)
            .where(FlatSetting.filter_code == key["filter_code"])
            .order_by(FlatSetting.id.desc())
        ).first()
        taken = setting.found_at + timedelta(hours=hours)
        own = context.library.own_folder_id(session)
        like = session.scalars(select(FrameSet).where(FrameSet.kind == "flat")).first()
        facts = {
            **like.facts,
            "filter_code": key["filter_code"],
            "gain": key["gain"],
            "offset": key["offset"],
            "binning_x": key["binning"],
            "exposure_s": setting.exposure_s if exposure is None else exposure,
            "of_sky": of_sky,
            "telescope": "Heron 92",
            "kind": FrameKind.FLAT,
        }
        shot = FrameSet(
            kind="flat",
            camera="Dunlin M24",
            is_master=False,
            n_frames=1,
            n_kept=1,
            facts=facts,
            last_utc=taken,
        )
        session.add(shot)
        session.flush()
        name = f"drift/{shot.id}.fits"
        frame = Frame(
            folder_id=own, path=name, size_bytes=1, modified_ns=1, state="good", set_id=shot.id, kind="flat"
        )
        job = Job(kind="run", title="x", state="done", params={}, created_at=taken)
        step = RunStep(seq=1, kind="flats", title="x")
        job.steps.append(step)
        session.add_all([frame, job])
        session.flush()
        step.shots.append(
            RunShot(
                seq=1,
                exposure_s=facts["exposure_s"],
                brightness=setting.brightness,
                stats={"median": level},
                taken_at=taken,
                path=name,
                frame_id=frame.id,
            )
        )
        return setting.expected_adu


def test_flats_shot_later_say_where_a_setting_has_drifted(client, page, context):
    assert row_of(page(), SII)["state"] == "found" and row_of(page(), SII)["drift"] == ""
    expected = flats_shot(context, SII, 29_000.0)
    flats_shot(context, SII, 12_000.0, of_sky=True, hours=2.0)
    flats_shot(context, SII, 9_000.0, exposure=99.0, hours=3.0)
    flats_shot(context, HA, 40_000.0, hours=2.0)
    assert row_of(page(), SII)["drift"] == "", (
        "within tolerance; the sky's, other exposures and filters are no matter"
    )
    assert "came out +" in row_of(page(), HA)["drift"], "beyond it"
    flats_shot(context, SII, expected - 4_000.0, hours=5.0)
    assert "came out −4,000 ADU off" in row_of(page(), SII)["drift"], "the newest count"


def test_facts_of_a_sky_flat_outlive_the_database():
    from grayshelf.library.facts_json import facts_from_json
    from tests.core.test_sky_flats import FLAT

    of_sky = replace(FLAT, of_sky=True)
    assert facts_from_json(facts_to_json(of_sky)) == of_sky
    assert facts_from_json(facts_to_json(FLAT)) == FLAT
