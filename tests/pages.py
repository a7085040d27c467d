"""Every page that a library has: each GET of the application with each number that its database holds."""

from __future__ import annotations

import itertools
import json
from collections.abc import Iterator

from sqlalchemy import select

from grayshelf.library.models import Frame, FrameSet, Measurement, Rig, RunShot


def every_page(app, library, most: int = 400) -> Iterator[str]:
    """Addresses; of the numbers of each kind, the first `most`."""
    with library.db.session() as session:
        rigs = list(session.scalars(select(Rig.id)))
        lights = list(session.scalars(select(FrameSet.id).where(FrameSet.kind == "light").limit(most)))
        nights = sorted({n.isoformat() for n in session.scalars(select(FrameSet.night)) if n is not None})
        numbers = {
            "rig_id": rigs,
            "set_id": list(session.scalars(select(FrameSet.id).limit(most))),
            "frame_id": list(session.scalars(select(Frame.id).limit(most))),
            "shot_id": list(session.scalars(select(RunShot.id).limit(most))),
            "measurement_id": list(session.scalars(select(Measurement.id).limit(most))),
            "night": nights[:most],
            "kind": ["offset", "gain"],
        }
    for rule in app.url_map.iter_rules():
        if "GET" not in (rule.methods or ()) or rule.rule in ("/api/events", "/<path:name>", "/"):
            continue
        names = sorted(rule.arguments - {"filename"})
        if not rule.rule.startswith("/api") or any(name not in numbers for name in names):
            continue
        if rule.rule.startswith("/api/hand-over"):
            yield from (f"{rule.rule}?sets={number}" for number in lights)
            continue
        for values in itertools.product(*(numbers[name] for name in names)):
            address = rule.rule
            for name, value in zip(names, values, strict=True):
                for converter in ("int:", "string:", ""):
                    address = address.replace(f"<{converter}{name}>", str(value))
            yield address


def a_page_can_read(answer) -> bool:
    """Whether an answer holds nothing that a browser refuses: JSON knows no NaN and no Infinity (RFC 8259, section 6)."""
    if answer.mimetype != "application/json":
        return True
    try:
        json.loads(answer.text, parse_constant=_no_number)
    except ValueError:
        return False
    return True


def _no_number(name: str) -> float:
    raise ValueError(name)


def say_at(client, gate, say="done"):
    """The answer at a gate, as a page sends it."""
    body = {"step_id": gate["step_id"], "answer": say}
    return client.post(f"/api/jobs/{gate['job_id']}/answer", json=body)
