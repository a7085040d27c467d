"""Sets that could not be understood: left out, so that the others are shown, and told of."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from typing import TypeVar

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf.core.errors import GrayShelfError
from grayshelf.library.library import Library
from grayshelf.library.models import FrameSet

V = TypeVar("V")
log = logging.getLogger(__name__)


@contextmanager
def sparing(library: Library, where: str, set_id: int, kind: str) -> Iterator[None]:
    """What is done here for one set never takes down another: where it fails, the set is left out of it.

    It is written to the log with its trace, and told of on every page until it can be shown. What is meant for the
    person (`GrayShelfError`) passes through.

    Parameters
    ----------
    where
        What is done: a set that fails in one place and not in another stays told of.
    """
    try:
        yield
    except GrayShelfError:
        raise
    except Exception:
        log.exception("%s: %s %s was left out", where, kind, set_id)
        library.left_out[(where, set_id)] = f"{kind} {set_id}"
    else:
        library.left_out.pop((where, set_id), None)


def made_of_each(
    library: Library, where: str, sets: Iterable[FrameSet], make: Callable[[FrameSet], V]
) -> dict[int, V]:
    """What is made of each set, by its number, without those that were left out."""
    made: dict[int, V] = {}
    for row in sets:
        with sparing(library, where, row.id, row.kind):
            made[row.id] = make(row)
    return made


def forget_gone(library: Library, session: Session) -> None:
    """Sets that are in the library no more are not told of."""
    if library.left_out:
        there = set(session.scalars(select(FrameSet.id)))
        for where, set_id in [key for key in library.left_out if key[1] not in there]:
            library.left_out.pop((where, set_id), None)


def left_out_in_words(library: Library) -> str:
    """What is told of sets that were left out; empty where there are none."""
    names = sorted(set(library.left_out.values()))
    if not names:
        return ""
    several = len(names) > 1
    more = f" and {len(names) - 3} more" if len(names) > 3 else ""
    return (
        f"{len(names)} set{'s' if several else ''} could not be understood and {'are' if several else 'is'} left out "
        f"of what is shown: {', '.join(names[:3])}{more}. {'Their' if several else 'Its'} files are untouched. Scan "
        f"{'their' if several else 'its'} folder again; logs/grayshelf.log in the library says what was in the way."
    )
