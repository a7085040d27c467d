"""What is kept of a hand-over: what went where, as which files, and what served the lights then."""

from __future__ import annotations

from dataclasses import dataclass, field

from grayshelf.core.filing.hand_over import Form, HandedAs, Recipe
from grayshelf.core.masters.crop import Crop
from grayshelf.core.masters.scaled import Scaled


@dataclass(frozen=True)
class HandedItem:
    """One file of a hand-over."""

    path: str
    """Below the folder, with '/'."""
    frame_id: int
    recipe: Recipe | None = None
    """With what it is calibrated here; None where it goes as it is."""
    crop: Crop | None = None
    """To what it is cropped; None where it goes as it is."""
    scaled: Scaled | None = None
    """To what it is scaled; None where it goes as it is."""


@dataclass(frozen=True)
class HandedPlan:
    """What goes where: fixed when it begins, so that it goes on as it began. It lies in a file of the library, since it may
    have very many lines, and a job is read often."""

    items: tuple[HandedItem, ...] = ()
    table: tuple[tuple[str, ...], ...] = ()
    """What is what, for the table beside the files."""


@dataclass(frozen=True)
class HandOverJob:
    """Frames handed over into a folder."""

    folder: str
    way: HandedAs
    form: Form
    plan: str = ""
    """Its file (`HandedPlan`), below the library's folder."""
    served: dict[str, tuple[str, ...]] = field(default_factory=dict)
    """The sets and masters that went with each set of lights, by its number."""
