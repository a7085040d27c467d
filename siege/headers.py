"""Damaged headers through the scan, then the pages of what came of them."""

from __future__ import annotations

import random
import re
import time
from collections import Counter
from pathlib import Path

from tests.own import Own
from tests.pages import a_page_can_read, every_page
from tests.web.test_hostile import fuzzed

HEADERS = 10_000
#: Pages are asked for in a random order for so long, each address of the document before any comes again.
MOST_SECONDS = 120


def main(folder: Path, frames: Path) -> list[str]:
    own = Own(folder / "many")
    harm = _scan(own, fuzzed(folder / "headers", HEADERS, seed=4), HEADERS)
    pages = list(every_page(own.client.application, own.library, most=HEADERS))
    random.Random(8).shuffle(pages)
    pages = _in_turns(pages)
    asked, failed, slowest, ends = 0, [], (0.0, ""), time.monotonic() + MOST_SECONDS
    for address in pages:
        begun = time.monotonic()
        if begun > ends:
            break
        asked += 1
        answer = own.client.get(address)
        slowest = max(slowest, (time.monotonic() - begun, address))
        if answer.status_code >= 500 or not a_page_can_read(answer):
            failed.append(f"{address}: {answer.text[:200]}")
    print(
        f"   {asked:,} of {len(pages):,} pages asked for, {len(failed)} failed; the slowest {slowest[0]:.1f} s, {slowest[1]}"
    )
    own.close()
    return harm + failed


def _in_turns(pages: list[str]) -> list[str]:
    """Every address of the document before any is asked for with a second number."""
    turns = Counter[str]()
    ranked = []
    for address in pages:
        kind = re.sub(r"\d[\d-]*", "#", address)
        turns[kind] += 1
        ranked.append((turns[kind], address))
    return [address for _, address in sorted(ranked, key=lambda x: x[0])]


def _scan(own: Own, folder: Path, count: int) -> list[str]:
    begun = time.monotonic()
    job = own.client.post("/api/folders", json={"path": str(folder)}).json["id"]
    while own.get("/api/jobs")["alive"]:
        time.sleep(0.5)
    ended = own.ended(job)
    print(f"   {count:,} damaged headers read in {time.monotonic() - begun:.0f} s: {ended['message']}")
    return [] if ended["state"] == "done" else [f"the scan {ended['state']}: {ended['message']}"]
