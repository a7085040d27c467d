"""The files of the library: reading frames that came from anywhere, writing our own without ever overwriting."""

from __future__ import annotations

import errno
import gzip
import hashlib
import io
import os
import tempfile
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, BinaryIO, cast

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.errors import Conflict, DiskFull, UnreadableFrame
from grayshelf.core.frames.cards import BLOCK
from grayshelf.core.frames.fits_blocks import MOST_UNPACKED, ImageHeader, card_value, read_image_header
from grayshelf.library.foreign_formats import foreign_header, foreign_pixels, is_foreign
from grayshelf.library.room import as_disk_full


def read_header(path: Path) -> ImageHeader:
    """Read the header of a frame and check that the file holds all of it.

    Raises
    ------
    UnreadableFrame
        With a reason a person understands.
    """
    try:
        size = path.stat().st_size
        if size == 0:
            raise UnreadableFrame("The file is empty (0 bytes).", "Copy it again from where it was taken.")
        if is_foreign(path):
            return foreign_header(path)
        if path.name.lower().endswith(".gz"):
            with gzip.open(path, "rb") as packed:
                image = read_image_header(cast(BinaryIO, packed), None)
                _check_packed(cast(BinaryIO, packed), image)
                return image
        with path.open("rb") as stream:
            return read_image_header(stream, size)
    except UnreadableFrame:
        raise
    except (OSError, EOFError, ValueError, MemoryError, OverflowError) as error:
        raise _as_unreadable(error) from error
    except Exception as error:
        # zlib and Astropy raise what they like at damaged files; a scan must go on whatever it is.
        raise _as_unreadable(error) from error


def _as_unreadable(error: Exception) -> UnreadableFrame:
    if isinstance(error, FileNotFoundError):
        return UnreadableFrame("The file is no longer there.", "Scan the folder again.")
    if isinstance(error, OSError) and error.errno == errno.ELOOP:
        return UnreadableFrame("The file is a link that leads in a circle.", "Remove the link.")
    if isinstance(error, PermissionError):
        return UnreadableFrame("The file may not be read by this user.", "Change its permissions.")
    if isinstance(error, (EOFError, gzip.BadGzipFile)) or "Compressed" in str(error):
        return UnreadableFrame(
            "The packed file is cut off or damaged.", "Copy it again from where it was taken."
        )
    return UnreadableFrame(f"The file is damaged ({type(error).__name__}: {error}).", "Copy it again.")


def _check_packed(stream: BinaryIO, image: ImageHeader) -> None:
    """Unpack to the end of the pixels, in small pieces, so that a cut-off file shows."""
    end = image.data_offset + image.data_bytes
    if end > MOST_UNPACKED:
        raise UnreadableFrame("The packed file would unpack to more than any frame.", "Leave it out.")
    position = stream.tell()
    while position < end:
        piece = stream.read(min(1 << 20, end - position))
        if not piece:
            raise UnreadableFrame(
                "The file is cut off inside its pixels.", "Copy it again from where it was taken."
            )
        position += len(piece)


def read_pixels(path: Path) -> NDArray[Any]:
    """All pixels of a frame, shape (height, width): uint16 where the file holds those, else float32.

    The header is checked first, so memory is bounded by the size that it truly has.
    """
    image = read_header(path)
    if is_foreign(path):
        return foreign_pixels(path)
    if lies_plain(path, image):
        return _plain_pixels(path, image)
    # Loaded for these alone: a second that most libraries never need to wait for.
    from astropy.io import fits

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with fits.open(_unpacked(path, image), memmap=False, lazy_load_hdus=True) as hdus:
                data = np.asarray(hdus[image.hdu].data)
    except Exception as error:
        raise _as_unreadable(error) from error
    if data.shape[:-2] == (1,) * (data.ndim - 2):
        data = data.reshape(data.shape[-2:])
    if data.shape != (image.height, image.width):
        raise UnreadableFrame("The pixels do not have the size that the header gives.", "Leave it out.")
    if data.dtype == np.uint16:
        return data
    return data.astype(np.float32)


#: How FITS keeps pixels, by its BITPIX (FITS Standard 4.0, table 8).
KEPT_AS = {8: "u1", 16: ">i2", 32: ">i4", 64: ">i8", -32: ">f4", -64: ">f8"}


def lies_plain(path: Path, image: ImageHeader) -> bool:
    """Whether the pixels lie in the file as they are: neither packed, nor with a level that stands for no pixel."""
    if image.compressed or path.name.lower().endswith(".gz"):
        return False
    return card_value(image.header, "BLANK") is None


def _plain_pixels(path: Path, image: ImageHeader) -> NDArray[Any]:
    """Pixels that lie in the file as they are."""
    scaling = scaling_of(image, "BSCALE", 1.0), scaling_of(image, "BZERO", 0.0)
    shape, count = (image.height, image.width), image.height * image.width
    try:
        raw = np.fromfile(path, KEPT_AS[image.bits], count, offset=image.data_offset)
    except OSError as error:
        raise _as_unreadable(error) from error
    if raw.size != count:
        raise UnreadableFrame(
            "The file is cut off inside its pixels.", "Copy it again from where it was taken."
        )
    if image.bits == 16 and scaling == (1.0, 32768.0):
        # Unsigned numbers, kept as signed ones (FITS Standard 4.0, table 11).
        unsigned: NDArray[np.uint16] = raw.astype("=i2").view(np.uint16)
        np.bitwise_xor(unsigned, 0x8000, out=unsigned)
        return unsigned.reshape(shape)
    return scaled(raw, scaling).reshape(shape)


def scaled(raw: NDArray[Any], scaling: tuple[float, float]) -> NDArray[np.float32]:
    """BZERO + BSCALE × what a file keeps, any shape. Whole numbers of 32 bits are scaled before they lose digits."""
    scale, zero = scaling
    if scaling == (1.0, 0.0):
        return raw.astype(np.float32)
    exact = raw.dtype.kind != "f" and raw.dtype.itemsize > 2
    values = raw.astype(np.float64 if exact else np.float32)
    if scale != 1.0:
        np.multiply(values, scale, out=values)
    if zero:
        np.add(values, zero, out=values)
    return values.astype(np.float32, copy=False)


def _unpacked(path: Path, image: ImageHeader) -> Path | BinaryIO:
    """A packed file up to the end of its frame; what lies behind may unpack to more than fits into memory."""
    if not path.name.lower().endswith(".gz"):
        return path
    end = -(-(image.data_offset + image.data_bytes) // BLOCK) * BLOCK
    with gzip.open(path, "rb") as packed:
        return io.BytesIO(packed.read(end))


def scaling_of(image: ImageHeader, name: str, default: float) -> float:
    """BSCALE or BZERO of a header.

    Raises
    ------
    UnreadableFrame
        Where it is no number.
    """
    value = card_value(image.header, name)
    if value is None:
        return default
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        raise UnreadableFrame(f"{name} in the header is '{value}', not a number.", "Leave this file out.")
    return float(value)


def sha256_of(path: Path) -> str:
    """Hash of a file's bytes, read in pieces."""
    digest = hashlib.sha256()
    with path.open("rb") as stream:
        while piece := stream.read(1 << 20):
            digest.update(piece)
    return digest.hexdigest()


class _HashingWriter:
    """Passes bytes on to a file and hashes them on the way, so that they need not be held twice."""

    def __init__(self, stream: BinaryIO) -> None:
        self._stream = stream
        self.digest = hashlib.sha256()
        self.mode = "wb"
        self.size = 0
        self.failed: OSError | None = None

    def write(self, data: Any) -> int:
        piece = memoryview(data).cast("B")
        self.digest.update(piece)
        self.size += len(piece)
        try:
            return self._stream.write(piece)
        except OSError as error:
            # Whoever writes through this may trip over the error; what happened is that the disk did not take it.
            self.failed = error
            raise

    def flush(self) -> None:
        self._stream.flush()

    def tell(self) -> int:
        return self._stream.tell()


def give_name(part: Path, path: Path) -> None:
    """Give a finished file its name, unless the name is taken."""
    try:
        try:
            os.link(part, path)
        except OSError as error:
            if error.errno not in (errno.EPERM, errno.ENOTSUP, errno.EOPNOTSUPP, errno.ENOSYS):
                raise
            # A disk without links (a stick, some shares): take the name first, then put the file there.
            os.close(os.open(path, os.O_CREAT | os.O_EXCL))
            part.replace(path)
    except FileExistsError as error:
        raise Conflict(f"{path.name} is there already and was left as it is.") from error


def drop_unfinished(path: Path) -> None:
    """Remove what a process that was killed left of a file: its '.part', and a name that holds no byte."""
    path.with_name(path.name + ".part").unlink(missing_ok=True)
    if path.exists() and path.stat().st_size == 0:
        path.unlink()


def write_new(path: Path, write: Callable[[BinaryIO], None]) -> str:
    """Write a file that was not there before; return its SHA-256.

    The bytes go to a '.part' file, to the disk, are read back and compared, and only then get their name.
    An existing file is never overwritten.

    Raises
    ------
    Conflict
        Where the name is taken, or what was read back is not what was written.
    DiskFull
        Where there is no room; nothing of it is left.
    """
    part = path.with_name(path.name + ".part")
    hashing: _HashingWriter | None = None
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with part.open("wb") as stream:
            hashing = _HashingWriter(stream)
            write(cast(BinaryIO, hashing))
            stream.flush()
            os.fsync(stream.fileno())
        digest = hashing.digest.hexdigest()
        if sha256_of(part) != digest:
            raise Conflict(
                f"{path.name} was not written as it should be: the disk gave other bytes back.", "Check it."
            )
        give_name(part, path)
        sync_folder(path.parent)
    except Exception as error:
        cause = hashing.failed if hashing is not None and hashing.failed is not None else error
        full = as_disk_full(cause, path.parent)
        if full is not None and hashing is not None:
            raise DiskFull(path.parent, hashing.size + full.needed_bytes) from cause
        if full is None and cause is error:
            raise
        raise (full or cause) from error
    finally:
        part.unlink(missing_ok=True)
    return digest


def sync_folder(folder: Path) -> None:
    """Have the names in a folder on the disk, where the system can: a file without its name is lost with the power."""
    if os.name != "posix":
        return
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


@contextmanager
def scratch_folder(root: Path) -> Iterator[Path]:
    """A place for unpacked frames while a master is built; gone afterwards."""
    root.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=root) as name:
        yield Path(name)
