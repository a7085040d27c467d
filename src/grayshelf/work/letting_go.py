"""Raw frames let go: packed, moved to another disk, thrown away with a way back, and deleted for good when it is said."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path

from grayshelf.core.errors import Conflict, GrayShelfError, NotFound
from grayshelf.library.filing import FiledBy, FiledState, counts_of, folder_to_file_into, write_journal
from grayshelf.library.folder_list import folder_that_holds
from grayshelf.library.letting_go import plan_letting_go
from grayshelf.library.library import Library
from grayshelf.library.models import Filing
from grayshelf.work.filing import DELETE, FILE, beginning, launch, make_root, nobody_files
from grayshelf.work.jobs import JobRunner

_TITLES = {
    FiledBy.PACK: "Packing {:,} raw frames",
    FiledBy.THROW: "Putting {:,} raw frames aside",
    FiledBy.MOVE: "Moving {:,} raw frames",
}


def start_letting_go(
    library: Library, runner: JobRunner, set_ids: Collection[int], way: FiledBy, root: str, words: str
) -> int:
    """Begin to let the raw frames of sets go; returns the job.

    Parameters
    ----------
    root
        The folder on another disk, for `FiledBy.MOVE`.
    words
        Which frames, for the journal.

    Raises
    ------
    GrayShelfError, FolderRefused, Conflict
    """
    with beginning:
        nobody_files(library)
        into = str(folder_to_file_into(library, root)) if way is FiledBy.MOVE else ""
        plan = plan_letting_go(library, set_ids, way, into)
        if not plan.legs:
            why = plan.stays.most_common(1)
            raise GrayShelfError(
                why[0][0] if why else "There is no frame of these sets.", "Choose other sets."
            )
        if into:
            make_root(Path(into))
            folder_that_holds(library, into)
        with library.db.session() as session:
            filing_id = write_journal(library, session, into, way, words, plan.legs)
        return launch(library, runner, FILE, filing_id, _TITLES[way].format(len(plan.legs)))


def start_deleting(library: Library, runner: JobRunner, filing_id: int) -> int:
    """Begin to delete for good what was thrown away; returns the job.

    Raises
    ------
    NotFound, Conflict
    """
    with beginning:
        nobody_files(library)
        with library.db.session() as session:
            filing = session.get(Filing, filing_id)
            if filing is None or filing.way != FiledBy.THROW:
                raise NotFound("Nothing of that number was thrown away.")
            files = counts_of(session, filing_id).get(FiledState.DONE, 0)
        if not files:
            raise Conflict("Nothing of it is left to delete.")
        return launch(library, runner, DELETE, filing_id, f"Deleting {files:,} raw frames for good")
