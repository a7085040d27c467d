"""Damaged headers through the scan, then the pages of all that came of them."""

from __future__ import annotations

import random
import time
from pathlib import Path

from tests.own import Own
from tests.pages import every_page
from tests.web.test_hostile import fuzzed

HEADERS, PAGES = 10_000, 4_000
MOST_SECONDS = 150


def main(folder: Path, frames: Path) -> list[str]:
    own = Own(folder / "library")
    fuzzed(folder / "fuzzed", HEADERS, seed=4)
    begun = time.monotonic()
    job = own.client.post("/api/folders", json={"path": str(folder / "fuzzed")}).json["id"]
    while own.get("/api/jobs")["alive"]:
        time.sleep(0.5)
    job = own.ended(job)
    harm = [] if job["state"] == "done" else [f"the scan {job['state']}: {job['message']}"]
    print(f"   {HEADERS:,} damaged headers read in {time.monotonic() - begun:.0f} s: {job['message']}")
    pages = list(every_page(own.client.application, own.library, most=3000))
    random.Random(8).shuffle(pages)
    asked, ends = 0, time.monotonic() + MOST_SECONDS
    for address in pages[:PAGES]:
        if time.monotonic() > ends:
            break
        asked += 1
        answer = own.client.get(address)
        if answer.status_code >= 500:
            harm.append(f"{address}: {answer.text[:200]}")
    print(f"   {asked:,} pages asked for, {len(harm)} failed")
    own.close()
    return harm
