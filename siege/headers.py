"""Damaged headers through the scan, then the pages of what came of them."""

from __future__ import annotations

import random
import time
from pathlib import Path

from tests.own import Own
from tests.pages import every_page
from tests.web.test_hostile import fuzzed

#: So many through the scan; and so many in the library whose every page is asked for: a slip is judged against all
#: holdings, so that pages of thousands of sets take minutes.
HEADERS, IN_PAGES = 10_000, 800
MOST_SECONDS = 150
LISTS = ("/api/state", "/api/intake", "/api/problems", "/api/problems.csv", "/api/sets", "/api/sets.csv")


def main(folder: Path, frames: Path) -> list[str]:
    own = Own(folder / "many")
    harm = _scan(own, fuzzed(folder / "headers", HEADERS, seed=4), HEADERS)
    harm += [page for page in LISTS if own.client.get(page).status_code != 200]
    own.close()
    own = Own(folder / "some")
    harm += _scan(own, fuzzed(folder / "fewer", IN_PAGES, seed=9), IN_PAGES)
    pages = list(every_page(own.client.application, own.library, most=3000))
    random.Random(8).shuffle(pages)
    asked, failed, ends = 0, [], time.monotonic() + MOST_SECONDS
    for address in pages:
        if time.monotonic() > ends:
            break
        asked += 1
        answer = own.client.get(address)
        if answer.status_code >= 500:
            failed.append(f"{address}: {answer.text[:200]}")
    print(f"   {asked:,} of {len(pages):,} pages asked for, {len(failed)} failed")
    own.close()
    return harm + failed


def _scan(own: Own, folder: Path, count: int) -> list[str]:
    begun = time.monotonic()
    job = own.client.post("/api/folders", json={"path": str(folder)}).json["id"]
    while own.get("/api/jobs")["alive"]:
        time.sleep(0.5)
    ended = own.ended(job)
    print(f"   {count:,} damaged headers read in {time.monotonic() - begun:.0f} s: {ended['message']}")
    return [] if ended["state"] == "done" else [f"the scan {ended['state']}: {ended['message']}"]
