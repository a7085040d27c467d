"""A zip that is written while it is sent: in constant memory, of any size (zip64), its files as they are."""

from __future__ import annotations

import time
import zipfile
from collections.abc import Callable, Iterator, Sequence
from io import RawIOBase
from pathlib import Path
from typing import Any

from grayshelf.core.errors import UnreadableFrame
from grayshelf.library.folders import stamp_of

_PIECE = 1 << 20
#: The first moment that a zip can name (APPNOTE.TXT 4.4.6: MS-DOS time).
_FIRST = (1980, 1, 1, 0, 0, 0)


class _Sent(RawIOBase):
    """Holds what was written until it is taken."""

    def __init__(self) -> None:
        self._pieces: list[bytes] = []

    def writable(self) -> bool:
        """It is."""
        return True

    def write(self, data: Any) -> int:
        """Hold a piece."""
        self._pieces.append(bytes(data))
        return len(data)

    def taken(self) -> bytes:
        """What was written since."""
        held = b"".join(self._pieces)
        self._pieces.clear()
        return held


#: A file that is sent as it is, or one that is made while it is sent.
Source = Path | Callable[[], Iterator[bytes]]


def _pieces(path: Path) -> Iterator[bytes]:
    before, count = stamp_of(path), 0
    with path.open("rb") as reading:
        while piece := reading.read(_PIECE):
            count += len(piece)
            yield piece
    if count != before.size_bytes or stamp_of(path) != before:
        raise UnreadableFrame(f"{path.name} changed while it was sent.", "Scan its folder again.")


def zip_stream(files: Sequence[tuple[str, Source]], texts: Sequence[tuple[str, str]] = ()) -> Iterator[bytes]:
    """The bytes of a zip of files, each under a name of its own.

    Parameters
    ----------
    texts
        Small files that are made for it: name and content.

    Raises
    ------
    UnreadableFrame
        Where a file changes, or cannot be read to its end: what was sent by then is no whole zip, and opens nowhere.
    """
    sent = _Sent()
    with zipfile.ZipFile(sent, "w", zipfile.ZIP_STORED) as zipped:
        for name, text in texts:
            zipped.writestr(name, text)
        for name, source in files:
            when = stamp_of(source).modified_ns / 1e9 if isinstance(source, Path) else time.time()
            entry = zipfile.ZipInfo(name, max(time.localtime(when)[:6], _FIRST))
            # Links and modes of this machine mean nothing on another.
            entry.external_attr = 0o644 << 16
            with zipped.open(entry, "w", force_zip64=True) as writing:
                for piece in _pieces(source) if isinstance(source, Path) else source():
                    writing.write(piece)
                    yield sent.taken()
            yield sent.taken()
    yield sent.taken()
    yield sent.taken()
