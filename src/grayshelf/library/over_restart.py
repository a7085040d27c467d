"""What was made of the shelf, kept in a file while nothing runs, so that the first page after a start is there at once.

It holds nothing of its own: each part is held against the rows that it was made of, or against the terms and the shelf
that it was written for, and made anew where they are others by now. It may be deleted at any time.
"""

from __future__ import annotations

import logging
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from functools import cache, partial
from hashlib import blake2b
from pathlib import Path
from threading import Lock
from typing import Any, Generic, NamedTuple, TypeVar

import msgspec

import grayshelf
from grayshelf.core.matching.judge import Terms
from grayshelf.core.matching.match import Asking
from grayshelf.core.matching.model import Holding, LightsNoise, PullSlip
from grayshelf.core.matching.stock import Stock
from grayshelf.library.holdings import holdings_made
from grayshelf.library.kept import RowsKept
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet, lights_made
from grayshelf.library.slips import LastSlips, Written, last_slips
from grayshelf.library.slips import slips as write_slips
from grayshelf.library.trains import standing_rigs

V = TypeVar("V")
_writing = Lock()
log = logging.getLogger(__name__)
NAME = "kept-answers.msgpack"
#: Larger than that of any library; what is larger is none of ours.
MOST_BYTES = 1_000_000_000


class _Slip(NamedTuple):
    set_id: int
    terms: int
    """Which of the rig's terms it was written on."""
    noise: LightsNoise
    slip: PullSlip


@dataclass(frozen=True)
class _RigSlips:
    terms: list[Terms] = field(default_factory=list)
    gains: list[float | None] = field(default_factory=list)
    """Of each of the terms."""
    slips: list[_Slip] = field(default_factory=list)


_Holdings = dict[int, tuple[bytes, tuple[str, Holding]]]
_Lights = dict[int, tuple[bytes, LightSet]]


@dataclass(frozen=True)
class _MadeBy:
    """What is looked at first: what another state of the program wrote may look otherwise."""

    made_by: str


@dataclass(frozen=True)
class _Kept(_MadeBy):
    """The parts, each packed by itself, so that each is unpacked when it is asked for first."""

    holdings: bytes
    lights: dict[str, bytes]
    """By camera."""
    slips: dict[int, tuple[str, bytes]]
    """By rig, with its camera."""
    others: dict[str, bytes]


@cache
def made_by() -> str:
    """What tells one state of the program from another: answers of another are not put back.

    Asked for first at the start: what is written at the end is still made by the state that was begun, whatever was
    installed meanwhile.
    """
    root = Path(grayshelf.__file__).parent
    # All of it: what the pages make of rows is kept as well.
    stamps = [(str(path.relative_to(root)), path.stat()) for path in sorted(root.rglob("*.py"))]
    told = [(name, info.st_size, info.st_mtime_ns) for name, info in stamps]
    return f"{grayshelf.__version__} {blake2b(repr(told).encode(), digest_size=16).hexdigest()}"


@dataclass(frozen=True)
class Others(Generic[V]):
    """What is made of rows elsewhere, and is to be kept as well."""

    name: str
    rows: RowsKept[V]
    made: type[V]
    """What is made of a row."""


_CHECK_BYTES = 16


def _check(packed: bytes) -> bytes:
    """What the file begins with: a disk that gave other bytes back would otherwise be believed."""
    return blake2b(packed, digest_size=_CHECK_BYTES).digest()


class _Unpacked(Generic[V]):
    """A part of the file: unpacked once, by whoever asks first."""

    def __init__(self, path: Path, packed: bytes, kind: Any, nothing: V) -> None:
        """`nothing` is what there is where the part makes no sense."""
        self._path, self._packed, self._kind, self._found = path, packed, kind, nothing
        self._lock, self._done = Lock(), False

    def __call__(self) -> V:
        """What is in it."""
        with self._lock:
            if not self._done:
                try:
                    self._found = msgspec.msgpack.decode(self._packed, type=self._kind)
                except Exception:
                    # Whatever is in the file, nothing rests on it.
                    log.warning("%s: a part cannot be used and is made anew", self._path, exc_info=True)
                self._done, self._packed = True, b""
            return self._found


def put_back(library: Library, others: Sequence[Others[Any]] = ()) -> bool:
    """Put back what was kept before the restart; return whether there was anything of this state of the program."""
    path, ours = library.root / NAME, made_by()
    try:
        if path.stat().st_size > MOST_BYTES:
            return False
        whole = path.read_bytes()
        packed = whole[_CHECK_BYTES:]
        if whole[:_CHECK_BYTES] != _check(packed):
            log.warning("%s is damaged; its answers are made anew", path)
            return False
        if msgspec.msgpack.decode(packed, type=_MadeBy).made_by != ours:
            return False
        kept = msgspec.msgpack.decode(packed, type=_Kept)
    except FileNotFoundError:
        return False
    except Exception:
        log.warning("%s cannot be used; its answers are made anew", path, exc_info=True)
        return False
    holdings = _Unpacked[_Holdings](path, kept.holdings, _Holdings, {})
    holdings_made(library).put_back(holdings)
    lights = {camera: _Unpacked[_Lights](path, packed, _Lights, {}) for camera, packed in kept.lights.items()}
    for camera, made in lights.items():
        lights_made(library, camera).put_back(made)
    for rig_id, (camera, packed) in kept.slips.items():
        slips = _Unpacked(path, packed, _RigSlips, _RigSlips())
        if camera in lights:
            last_slips(library, rig_id).put_back(
                partial(_last_slips, camera, slips, lights[camera], holdings)
            )
    for other in others:
        rows: Any = dict[int, tuple[bytes, other.made]]  # type: ignore[name-defined]
        other.rows.put_back(_Unpacked(path, kept.others.get(other.name, b""), rows, {}))
    return True


def _last_slips(
    camera: str,
    slips: Callable[[], _RigSlips],
    lights: Callable[[], _Lights],
    holdings: Callable[[], _Holdings],
) -> LastSlips:
    rig, by_set = slips(), {}
    for one in rig.slips:
        _, of = lights().get(one.set_id, (b"", None))
        if of is not None:
            terms = rig.terms[one.terms]
            on = replace(terms, lights=one.noise)
            asking = Asking(of.want, on, of.facts.calibrated, of.facts.pedestal_adu)
            by_set[one.set_id] = Written(of, terms, asking, one.slip)
    shelf = Stock(holding for _, (of_camera, holding) in holdings().values() if of_camera == camera)
    return LastSlips(shelf, dict(zip(rig.gains, rig.terms, strict=True)), by_set)


def keep(library: Library, others: Sequence[Others[Any]] = ()) -> None:
    """Write down what is made of the shelf now; a disk that has no room for it, or is away, keeps nothing."""
    path = library.root / NAME
    new = path.with_name(f"{NAME}.new")
    try:
        with _writing:
            packed = _pack(_collected(library, others))
            new.write_bytes(_check(packed) + packed)
            new.replace(path)
    except Exception as error:
        # Nothing is lost with it: the next start takes longer.
        log.warning("%s was not written (%s)", path, error, exc_info=not isinstance(error, OSError))
        with suppress(OSError):
            new.unlink(missing_ok=True)


def _collected(library: Library, others: Sequence[Others[Any]]) -> _Kept:
    slips: dict[int, tuple[str, bytes]] = {}
    lights: dict[str, _Lights] = {}
    with library.db.session() as session:
        every = [(rig.id, rig.camera) for rig in session.scalars(standing_rigs())]
    # Rigs that nobody looked at are left: an end has to be quick.
    rigs = [(rig_id, camera) for rig_id, camera in every if last_slips(library, rig_id).now().by_set]
    for rig_id, _ in rigs:
        # Those that the last changes made wrong are written anew: nobody waits for it now.
        write_slips(library, rig_id)
    holdings = dict(holdings_made(library).all())
    on_shelf = {id(holding) for _, (_, holding) in holdings.values()}
    for rig_id, camera in rigs:
        last = last_slips(library, rig_id).now()
        lights.setdefault(camera, dict(lights_made(library, camera).all()))
        if all(id(holding) in on_shelf for holding in last.shelf.holdings):
            slips[rig_id] = camera, _pack(_slips_of(last, lights[camera]))
    return _Kept(
        made_by(),
        _pack(holdings),
        {camera: _pack(made) for camera, made in lights.items()},
        slips,
        {other.name: _pack(dict(other.rows.all())) for other in others},
    )


_pack = msgspec.msgpack.encode


def _slips_of(last: LastSlips, lights: _Lights) -> _RigSlips:
    """The slips of a rig, without those whose lights changed since."""
    number = {id(terms): n for n, terms in enumerate(last.terms.values())}
    kept = [
        _Slip(i, number[id(one.rig_terms)], one.asking.terms.lights, one.slip)
        for i, one in last.by_set.items()
        if i in lights and lights[i][1] is one.lights and id(one.rig_terms) in number
    ]
    return _RigSlips(list(last.terms.values()), list(last.terms), kept)
