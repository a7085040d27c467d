"""What tonight's sheet can do about what a slip lacks."""

from __future__ import annotations

from dataclasses import dataclass

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.model import PullSlip, Verdict
from grayshelf.web.common import in_words
from grayshelf.work.run.dark_offers import DarkOffer
from grayshelf.work.run.flat_offers import RowOffer
from grayshelf.work.run.tonight import Tonight


@dataclass(frozen=True)
class SlipOffers:
    """What could be on the sheet for some lights."""

    asked: tuple[FrameKind, ...]
    """The kinds that they lack; where none is missing, those that serve them with care."""
    found: dict[FrameKind, RowOffer | DarkOffer]
    """Of those kinds what brings each, where anything does; flats bring dark flats of their own."""

    @property
    def keys(self) -> list[str]:
        """By which they are put on the sheet, each once."""
        return list(dict.fromkeys(offer.key for offer in self.found.values()))

    @property
    def against(self) -> str:
        """What speaks against shooting the first of them of which anything does."""
        return next((offer.against for offer in self.found.values() if offer.against), "")

    def sentence(self, does: str) -> str:
        """What the sheet can do, with what speaks against it; `does` where it can do all that is asked for. Begins with a
        blank, or is empty."""
        if not self.found:
            return ""
        if self.against:
            return f" Flats shot now: {self.against}. Tonight’s sheet can have them all the same."
        if len(self.found) < len(self.asked):
            return f" Tonight’s sheet can have the {in_words.listed(kind.value for kind in self.found)}."
        return f" Tonight’s sheet can {does}."


def offers_for(set_id: int, slip: PullSlip, tonight: Tonight | None) -> SlipOffers:
    """What could be on tonight's sheet that brings some lights the kinds which they lack."""
    lines = [line for line in slip.lines if line.waits_for is None]
    missing = tuple(line.kind for line in lines if line.verdict is Verdict.NOTHING)
    asked = missing or tuple(line.kind for line in lines if line.verdict is Verdict.CARE)
    if tonight is None:
        return SlipOffers(asked, {})
    waiting = [o for o in tonight.offers if not o.more]
    offers: list[tuple[FrameKind, RowOffer | DarkOffer]] = [(FrameKind.FLAT, o) for o in waiting]
    offers += [(dark.wish.kind, dark) for dark in tonight.darks]
    offers += [(FrameKind.DARK_FLAT, o) for o in waiting]
    found: dict[FrameKind, RowOffer | DarkOffer] = {}
    for wanted in asked:
        for kind, offer in offers:
            if kind is wanted and any(one.row.id == set_id for one in offer.lights):
                found.setdefault(wanted, offer)
    return SlipOffers(asked, found)
