"""Camera raw files and 16-bit TIFF, read by a process of its own (`raw_worker`) and told as FITS frames are."""

from __future__ import annotations

import multiprocessing
import os
import threading
from concurrent.futures import BrokenExecutor, ProcessPoolExecutor
from concurrent.futures import TimeoutError as TooLong
from functools import lru_cache
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.frames.fits_blocks import ImageHeader
from grayshelf.library import raw_worker
from grayshelf.library.raw_worker import TIFF_SUFFIXES, ForeignFrame, NoFrame

#: Raw files of consumer cameras, each with one value a pixel.
RAW_SUFFIXES = (".cr2", ".cr3", ".nef", ".nrw", ".arw", ".dng", ".raf", ".orf", ".rw2", ".pef", ".srw")
FOREIGN_SUFFIXES = (*RAW_SUFFIXES, *TIFF_SUFFIXES)
#: A file that takes longer would never end; a hundred million pixels take a few seconds.
MOST_SECONDS = 90.0

R = TypeVar("R")
_lock = threading.Lock()
_pool: ProcessPoolExecutor | None = None


def is_foreign(path: Path) -> bool:
    """Whether a file is of one of these formats, by its name."""
    return path.name.lower().endswith(FOREIGN_SUFFIXES)


def _asked(what: Any, path: Path) -> Any:
    """What the process answers; it is started anew where it fell over the last file."""
    global _pool
    with _lock:
        if _pool is None:
            # Not forked: a copy of this process would hold its locks and its database.
            context = multiprocessing.get_context("spawn")
            _pool = ProcessPoolExecutor(1, context, raw_worker.end_with, (os.getpid(),))
        pool = _pool
        try:
            return pool.submit(what, str(path)).result(MOST_SECONDS)
        except (BrokenExecutor, TooLong) as error:
            for process in list((pool._processes or {}).values()):
                process.kill()
            pool.shutdown(wait=False, cancel_futures=True)
            _pool = None
            raise UnreadableFrame(
                "Whoever reads such files fell over this one: it is damaged, or was made to do harm.",
                "Leave it out, or copy it again from where it was taken.",
            ) from error
        except NoFrame as error:
            raise UnreadableFrame(
                str(error), "Leave it out, or copy it again from where it was taken."
            ) from error
        except OSError:
            raise
        except Exception as error:
            raise UnreadableFrame(
                f"The file is damaged ({type(error).__name__}: {error}).", "Copy it again."
            ) from error


@lru_cache(512)
def _looked_at(path: str, _modified_ns: int, _size: int) -> ForeignFrame:
    found: ForeignFrame = _asked(raw_worker.look, Path(path))
    return found


def foreign_header(path: Path) -> ImageHeader:
    """What such a file says of itself, by the FITS keywords in common use.

    Raises
    ------
    UnreadableFrame
    OSError
    """
    from astropy.io import fits

    with path.open("rb"):
        # What is out of reach is told here, and not as damage.
        stat = path.stat()
    if stat.st_size == 0:
        raise UnreadableFrame("The file is empty (0 bytes).", "Copy it again from where it was taken.")
    found = _looked_at(str(path), stat.st_mtime_ns, stat.st_size)
    header = fits.Header()
    for keyword, value in found.cards.items():
        header[keyword] = _ascii(value) if isinstance(value, str) else value
    return ImageHeader(
        header, found.width, found.height, 16, 0, 0, 2 * found.width * found.height, compressed=True
    )


def _ascii(text: str) -> str:
    return "".join(c if " " <= c <= "~" else "?" for c in text)[:68]


def foreign_pixels(path: Path) -> NDArray[np.uint16]:
    """The values of its pixels as they were read out, margins cut off, shape (height, width).

    Raises
    ------
    UnreadableFrame
    """
    found: NDArray[np.uint16] = _asked(raw_worker.pixels, path)
    return found
