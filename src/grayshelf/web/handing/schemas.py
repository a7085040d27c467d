"""What goes over the wire of handing over."""

from __future__ import annotations

from datetime import date

from pydantic import Field

from grayshelf.core.filing.hand_over import Form, HandedAs
from grayshelf.library.handing_over import MOST_SETS
from grayshelf.web.common.schemas import Schema
from grayshelf.web.mending.schemas import NamedOut


class HandOverQuery(Schema):
    """What is handed over: sets of lights by their numbers, divided by commas; or those of a rig, of one night or one
    target or both."""

    sets: str = Field(default="", max_length=12 * MOST_SETS)
    rig_id: int | None = None
    night: date | None = None
    target: str | None = Field(default=None, max_length=200)
    form: Form = Form.MASTERS
    lights: bool = True
    """The lights themselves, too."""
    pattern: str = Field(default="", max_length=400)
    """Of one's own for folders and names; empty for ours."""


class HandOverIn(HandOverQuery):
    """Where it goes."""

    folder: str = Field(max_length=2000)
    way: HandedAs = HandedAs.COPIES


class HandedKindOut(Schema):
    """Files of one kind."""

    kind: str
    files: int
    text: str
    """'25 files, 310 MB'."""


class HandedFileOut(Schema):
    """One file, under the name that it gets."""

    path: str
    kind: str
    word: str
    verdict: str
    source: str
    """The name that it has now."""


class HandOverOut(Schema):
    """What would be handed over."""

    headline: str
    kinds: list[HandedKindOut]
    parts: list[NamedOut]
    """Of which a pattern is made up."""
    words: list[str]
    """The grouping words, each once."""
    files: list[HandedFileOut]
    """The first of them."""
    more: int
    """So many are not shown."""
    said: list[str]
    """What does not go, or goes with care."""
    size_text: str
    zip_href: str
    csv_href: str
    json_href: str


class HandedOut(Schema):
    """A hand-over of before."""

    job_id: int
    when: str
    what: str
    folder: str
    state: str
    renewed: str
    """What of it has been renewed since; empty where nothing was."""


class HandedListOut(Schema):
    """What was handed over of some lights."""

    handed: list[HandedOut]
