"""Other Gray Shelves that frames are fetched from: where each is, and the session that its code gave."""

from __future__ import annotations

import json
import os
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

from grayshelf.core.errors import Conflict, NotFound

#: In the library's folder; only its owner may read it, since it holds sessions.
FILE = "givers.json"
MOST = 20


@dataclass(frozen=True)
class Giver:
    """Another Gray Shelf."""

    number: int
    address: str
    """'http://host:port'."""
    name: str
    session: str = ""
    """What its code gave; empty where it asks for none, as on this machine."""
    at_dawn: bool = False
    fetched_on: str = ""
    """The day on which it was last fetched from by itself: '2026-10-19'."""


def givers(root: Path) -> list[Giver]:
    """All of them."""
    try:
        told: Any = json.loads((root / FILE).read_text())
        return [Giver(**one) for one in told]
    except FileNotFoundError:
        return []
    except (OSError, ValueError, TypeError) as error:
        raise Conflict(
            f"{root / FILE} cannot be read, so nobody knows where to fetch from.",
            "Move it away, then name the other Gray Shelf again.",
        ) from error


def giver(root: Path, number: int) -> Giver:
    """One of them.

    Raises
    ------
    NotFound
        Where there is none of this number.
    """
    found = next((one for one in givers(root) if one.number == number), None)
    if found is None:
        raise NotFound("There is no such Gray Shelf on the list.", "Look at the page again.")
    return found


def keep_giver(root: Path, one: Giver) -> Giver:
    """Enter one, or change it; number 0 is a new one, unless its address is known."""
    there = givers(root)
    known = next((g for g in there if g.number == one.number or g.address == one.address), None)
    if known is None and len(there) >= MOST:
        raise Conflict(f"Up to {MOST} can be on the list.", "Take one off first.")
    number = known.number if known is not None else max((g.number for g in there), default=0) + 1
    kept = replace(one, number=number)
    _write(root, [*[g for g in there if g.number != number], kept])
    return kept


def drop_giver(root: Path, number: int) -> None:
    """Take one off the list; what was fetched stays."""
    giver(root, number)
    _write(root, [g for g in givers(root) if g.number != number])


def _write(root: Path, all_of_them: list[Giver]) -> None:
    part = root / f"{FILE}.part"
    part.unlink(missing_ok=True)
    handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(handle, "w") as stream:
        json.dump([asdict(one) for one in sorted(all_of_them, key=lambda g: g.number)], stream)
        stream.flush()
        os.fsync(stream.fileno())
    part.replace(root / FILE)
