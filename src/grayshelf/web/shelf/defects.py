"""The hot and cold pixels of a master, for its card and to take away."""

from __future__ import annotations

import io
from pathlib import Path

from grayshelf.core.checks.defects import Defects, defects_of
from grayshelf.core.errors import NotFound
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.lit_part import pattern_where_lit
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.file_parts import FileParts
from grayshelf.library.kept import kept
from grayshelf.library.library import Library
from grayshelf.library.models import FrameSet


@kept(16)
def _defects(
    path: str, _modified_ns: int, kind: str, pattern: str | None, scratch: Path
) -> tuple[Defects, tuple[int, int]]:
    parts = FileParts(Path(path), scratch)
    lit = parts.lit
    found = defects_of(parts.where_lit, FrameKind(kind), pattern_where_lit(pattern, lit))
    return found if lit is None else found.moved(lit.left, lit.top), (parts.height, parts.width)


def defects_of_card(library: Library, set_id: int) -> tuple[Defects, tuple[int, int]]:
    """The defective pixels of a master, and its height and width.

    Raises
    ------
    NotFound
        Where there is no master of this number.
    """
    with library.db.session() as session:
        row = session.get(FrameSet, set_id)
        if row is None or not row.is_master or not row.frames or row.kind == "light":
            raise NotFound("There is no master here to map.", "Combine its frames first.")
        path = library.frame_path(session, row.frames[0])
        pattern = facts_from_json(row.facts).pixel_pattern
        return _defects(str(path), path.stat().st_mtime_ns, row.kind, pattern, library.root / "scratch")


def defect_map(defects: Defects, shape: tuple[int, int]) -> bytes:
    """A map as FITS: unsigned bytes, 1 where a pixel is hot, 2 where it is cold."""
    from astropy.io import fits

    header = fits.Header()
    header["IMAGETYP"] = "Defect map"
    header["N_HOT"] = (defects.n_hot, "pixels that are 1")
    header["N_COLD"] = (defects.n_cold, "pixels that are 2")
    stream = io.BytesIO()
    fits.PrimaryHDU(defects.mask(shape), header).writeto(stream, checksum=True)
    return stream.getvalue()
