"""Scanning a folder: in place, read only, and only what is new or changed since the last time."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from sqlalchemy import func, select

from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.core.frames.facts import FILE_NAME
from grayshelf.core.frames.file_names import counters_among
from grayshelf.library.catalog import (
    IN_SETS,
    ReadFile,
    enter_file,
    forget_missing,
    make_rigs,
    note_scan,
    read_file,
    regroup,
    site_zones,
)
from grayshelf.library.files import walk_frames
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame
from grayshelf.work.jobs import JobControl

#: Files after which what was read is written down for good.
BATCH = 100


def scan_folder(library: Library, control: JobControl, params: dict[str, Any]) -> dict[str, Any]:
    """Work of a scan job: `params['folder_id']` says which folder."""
    folder_id = int(params["folder_id"])
    with library.db.session() as session:
        folder = session.get(Folder, folder_id)
        if folder is None:
            raise NotFound("This folder is no longer on the list.")
        root, zones = Path(folder.path), site_zones(library, session)
        if not root.is_dir():
            note_scan(folder, library.clock.now(), "The folder is not there.")
            session.commit()
            raise GrayShelfError(
                f"The folder {root} is not there. Its frames stay in the library as they were.",
                "Plug the disk in or mount the share, then scan again.",
            )
        known = {
            path: (size, modified)
            for path, size, modified in session.execute(
                select(Frame.path, Frame.size_bytes, Frame.modified_ns).where(
                    Frame.folder_id == folder_id, Frame.state != "gone"
                )
            )
        }
    control.report(0.0, f"Looking through {root.name}")
    passed_over: Counter[str] = Counter()
    listed = list(walk_frames(root, control.check, passed_over))
    if not root.is_dir():
        raise GrayShelfError(
            f"The folder {root} vanished while it was looked through. Nothing was changed.",
            "Plug the disk in or mount the share, then scan again.",
        )
    counters = _counters([path for path, _ in listed])
    mistaken = _mistaken_for_values(library, folder_id, counters)
    fresh = [
        (path, stamp)
        for path, stamp in listed
        if known.get(path) != (stamp.size_bytes, stamp.modified_ns) or path in mistaken
    ]

    def read(path: str) -> ReadFile:
        found = read_file(root / path, zones.site, counters.get(path, frozenset()))
        return replace(found, facts=zones.settle(found.facts)) if found.facts is not None else found

    for start in range(0, len(fresh), BATCH):
        batch = [(path, stamp, read(path)) for path, stamp in fresh[start : start + BATCH]]
        control.check()
        with library.db.session() as session:
            folder = session.get_one(Folder, folder_id)
            for path, stamp, entry in batch:
                enter_file(session, folder, path, stamp, entry)
                session.flush()
        done = start + len(batch)
        control.report(0.9 * done / max(len(fresh), 1), f"{done:,} of {len(fresh):,} new files read")
    if not root.is_dir():
        # A disk pulled out half way must not make every frame on it look deleted.
        raise GrayShelfError(
            f"The folder {root} vanished during the scan.", "Mount it again, then scan again."
        )
    return _finish(library, control, folder_id, len(fresh), {path for path, _ in listed}, passed_over)


def _counters(paths: Sequence[str]) -> dict[str, frozenset[str]]:
    """Which numbers in the files' names only count frames, by path; names are compared within their folder."""
    by_folder: dict[str, list[str]] = {}
    for path in paths:
        by_folder.setdefault(path.rpartition("/")[0], []).append(path)
    return {
        f"{folder}/{name}" if folder else name: counted
        for folder, members in by_folder.items()
        for name, counted in counters_among(p.rpartition("/")[2] for p in members).items()
    }


def _mistaken_for_values(
    library: Library, folder_id: int, counters: Mapping[str, frozenset[str]]
) -> set[str]:
    """Files whose names were believed before the next ones showed that their numbers only count."""
    if not counters:
        return set()
    with library.db.session() as session:
        rows = session.execute(
            select(Frame.path, Frame.facts).where(
                Frame.folder_id == folder_id, Frame.facts["origins"].as_string().contains(FILE_NAME)
            )
        )
        return {
            path
            for path, facts in rows
            if any(facts["origins"].get(what) == FILE_NAME for what in counters.get(path, ()))
        }


def _finish(
    library: Library,
    control: JobControl,
    folder_id: int,
    fresh: int,
    seen: set[str],
    passed_over: Counter[str],
) -> dict[str, Any]:
    control.report(0.92, "Putting frames into sets")
    with library.db.session() as session:
        folder = session.get_one(Folder, folder_id)
        gone = forget_missing(session, folder, seen)
        session.flush()
        paths = {f.id: Path(f.path) for f in session.scalars(select(Folder))}
        sets = regroup(session, paths)
        session.flush()
        rigs = make_rigs(session)
        note_scan(folder, library.clock.now())
        folder.passed_over = dict(passed_over)
        states = dict(
            session.execute(
                select(Frame.state, func.count()).where(Frame.folder_id == folder_id).group_by(Frame.state)
            ).all()
        )
    library.touched()
    trouble = sum(n for state, n in states.items() if state not in (*IN_SETS, "gone")) + states.get(
        "lacking", 0
    )
    message = f"{fresh:,} new or changed, {sets:,} new sets"
    if trouble:
        message += f", {trouble:,} to look at"
    return {"message": message, "fresh": fresh, "gone": gone, "sets": sets, "rigs": rigs, "states": states}
