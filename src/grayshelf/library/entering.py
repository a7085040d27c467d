"""Entering one file of a folder: known again where it is a copy, or was moved."""

from __future__ import annotations

import logging
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, cast

from sqlalchemy import Table, insert
from sqlalchemy.orm import Session

from grayshelf.core.frames.facts import FrameFacts
from grayshelf.library.catalog import IN_SETS, ReadFile, enter_file, new_row, rows_at, set_aside, settling
from grayshelf.library.folders import FileStamp, printable
from grayshelf.library.known_again import Ahead, Known, known_as
from grayshelf.library.library import Library
from grayshelf.library.missing import take_place
from grayshelf.library.models import Frame

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Found:
    """What there is to say of one file before it is entered."""

    entry: ReadFile
    known: Known


def look_up(
    library: Library, folder_id: int, root: Path, path: str, entry: ReadFile, ahead: Ahead | None = None
) -> Found:
    """Whether the library has a file already, or had it elsewhere; it is read where need be, and nothing is written.

    Parameters
    ----------
    ahead
        What was asked for many files at once (`look_ahead`).
    """
    if entry.facts is None:
        return Found(entry, Known())
    try:
        return Found(entry, known_as(library, root / path, path, folder_id, entry.facts, ahead))
    except OSError as error:
        # Read a moment ago, and not now: the next scan looks again.
        log.warning("%s: %s", path, error)
        trouble = ReadFile(None, "The file could not be read to its end.", "Scan the folder again.", True)
        return Found(trouble, Known())


def enter(
    session: Session,
    there: dict[str, Frame],
    folder_id: int,
    path: str,
    stamp: FileStamp,
    found: Found,
    new: list[dict[str, Any]],
) -> set[str]:
    """Enter a file; return the keys of sets that are to be described anew.

    Parameters
    ----------
    there
        The rows that files have already (`rows_at`).
    new
        The row of a file that has none is added to these, to be inserted with others (`insert_rows`).
    """
    path, known = printable(path), found.known
    if known.moved_id is not None:
        frame = session.get(Frame, known.moved_id)
        if frame is not None:
            take_place(session, frame, folder_id, path, stamp)
            return {frame.group_key} if frame.group_key else set()
    before = there.get(path)
    if found.entry.out_of_reach and before is not None and before.state in IN_SETS:
        # What was read before stays what it is; with the next scan it is looked at again.
        return set()
    if before is None:
        new.append(new_row(folder_id, path, stamp, found.entry, known.twin))
        return set()
    key_before = before.group_key
    frame = enter_file(session, before, folder_id, path, stamp, found.entry, known.twin, known.stays)
    return {key for key in (key_before, frame.group_key) if key}


def insert_rows(session: Session, rows: Sequence[dict[str, Any]]) -> None:
    """Insert the rows of files that had none."""
    if rows:
        # Into the table, past what is kept of objects: there are none.
        session.execute(insert(cast("Table", Frame.__table__)), rows)


def enter_arrival(
    library: Library,
    folder_id: int,
    root: Path,
    path: str,
    stamp: FileStamp,
    facts: FrameFacts,
    wrong: str | None,
) -> Frame:
    """Enter a frame that has just come into a folder on the list.

    Parameters
    ----------
    root, path
        The folder on the list, and the way from it to the file.
    wrong
        What is wrong with the frame, in a sentence: it is set aside. Empty where nothing is; none where it was
        looked at before, and what was found stays.
    """
    with library.db.session() as session:
        settled = settling(library, session).settle(facts)
    found = look_up(library, folder_id, root, path, ReadFile(settled))
    with library.db.session() as session:
        there, new = rows_at(session, folder_id, [printable(path)]), list[dict[str, Any]]()
        enter(session, there, folder_id, path, stamp, found, new)
        insert_rows(session, new)
        session.flush()
        frame = rows_at(session, folder_id, [printable(path)])[printable(path)]
        if wrong:
            frame.rejected, frame.reason = True, wrong
        elif wrong is not None and frame.rejected and not set_aside(path):
            # What was found wrong with it was said of another sheet.
            frame.rejected, frame.reason = False, ""
        return frame
