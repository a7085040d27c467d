"""Longer darks that a person lets be scaled to lights: which could be, and whether their sensor is one for it."""

from __future__ import annotations

from collections.abc import Iterable

from sqlalchemy.orm import Session

from grayshelf.core.checks.glow import glow_adu
from grayshelf.core.errors import GrayShelfError, NotFound
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.masters.scaled import Scaled
from grayshelf.core.matching.model import Candidate, Holding, Scaling
from grayshelf.core.matching.scaling import scaled, too_much_glow
from grayshelf.core.matching.stock import Role, Stock, Wanted
from grayshelf.library.catalog import IN_SETS
from grayshelf.library.file_parts import FileParts, parts_of
from grayshelf.library.holdings import stock
from grayshelf.library.library import Library
from grayshelf.library.lights import LightSet, light_set, light_terms
from grayshelf.library.models import Frame, FrameSet, Rig
from grayshelf.library.rig_terms import rig_of_lights, terms_of
from grayshelf.library.slips import keep_scaled


def could_be_scaled(
    library: Library, rig: Rig, lights: LightSet, darks: Iterable[Holding]
) -> dict[str, Candidate]:
    """Those of some darks that could be scaled to lights, as they would do then, by `Holding.key`."""
    wanted, shelf = _wanted(library, rig, lights), stock(library, rig.camera)
    found = {dark.key: scaled(wanted, dark, shelf) for dark in darks if dark.kind is FrameKind.DARK}
    return {key: one for key, one in found.items() if isinstance(one, Candidate)}


def let_scale(library: Library, set_id: int, key: int) -> str:
    """Keep that a person lets a dark be scaled to a set of lights; return what to say of it.

    Raises
    ------
    NotFound, GrayShelfError
        Where there are no such lights or no such dark, or where it cannot be scaled.
    UnreadableFrame
        Where the files of dark and bias cannot be read.
    """
    with library.db.session() as session:
        row = session.get(FrameSet, set_id)
        if row is None or row.kind != FrameKind.LIGHT:
            raise NotFound("These lights are not in the library.")
        rig, lights = rig_of_lights(session, row), light_set(row)
        wanted, shelf = _wanted(library, rig, lights), stock(library, rig.camera)
        dark = _dark_of(shelf, str(key), rig)
        found = scaled(wanted, dark, shelf)
        if isinstance(found, str):
            raise _refused(found)
        assert found.scaling is not None
        parts = [_parts_of_master(library, session, x) for x in (dark.key, found.scaling.bias_key)]
    # Both pictures are gone through, which takes its time: no session waits for it.
    reason = too_much_glow(wanted, found.scaling.share * glow_adu(*parts))
    if reason:
        raise _refused(reason)
    with library.db.session() as session:
        keep_scaled(session, set_id, dark.key)
    return f"The dark of {found.scaling.from_s:g} s is scaled to these lights."


def _refused(reason: str) -> GrayShelfError:
    return GrayShelfError(
        f"This dark cannot be scaled: {reason}.", "Shoot a dark as long as the lights, or use another."
    )


def _wanted(library: Library, rig: Rig, lights: LightSet) -> Wanted:
    terms = light_terms(library, lights, terms_of(library, rig, lights.want.gain))
    return Wanted(Role.DARK, lights.want, terms)


def _dark_of(shelf: Stock, key: str, rig: Rig) -> Holding:
    found = next((h for h in shelf.of(FrameKind.DARK) if h.key == key), None)
    if found is None:
        raise NotFound(f"This is no dark on the shelf of {rig.camera}.", "Look at the slip again.")
    return found


def frame_of_master(session: Session, key: str) -> Frame | None:
    """The file of a master, where it is there."""
    row = session.get(FrameSet, int(key))
    there = [f for f in row.frames if f.state in IN_SETS and f.missing_since is None] if row else []
    return there[0] if there and row is not None and row.is_master else None


def _parts_of_master(library: Library, session: Session, key: str) -> FileParts:
    frame = frame_of_master(session, key)
    if frame is None:
        raise NotFound("The file of the dark or of its bias is not where it was.", "Plug its disk in.")
    return parts_of(library.frame_path(session, frame), library.root / "scratch")


def scaled_with(session: Session, scaling: Scaling) -> Scaled | None:
    """With which frame a dark is scaled; None where the bias is not there any more."""
    bias = frame_of_master(session, scaling.bias_key)
    return None if bias is None else Scaled(bias.id, scaling.from_s, scaling.to_s)
