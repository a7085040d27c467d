"""Everything on the shelf of one camera, and how it is looked through for what is wanted."""

from __future__ import annotations

from bisect import insort
from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import Enum

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.best_rank import (
    BestRanks,
    HoldingColumns,
    RowOfRanks,
    best_bias,
    best_dark_flats,
    best_darks,
    best_flats,
    foretold,
)
from grayshelf.core.matching.judge import (
    Terms,
    judge_bias,
    judge_dark,
    judge_dark_flat,
    judge_flat,
    not_the_same_sensor,
)
from grayshelf.core.matching.model import Candidate, CommonSettings, Holding
from grayshelf.core.matching.rank import rank
from grayshelf.core.matching.rulers import plain_name

#: Wants that are held against the shelf at once: more would not go faster, and take more memory.
_AT_ONCE = 64


class Stock:
    """What lights may use, by kind."""

    def __init__(self, holdings: Iterable[Holding] = ()) -> None:
        """Take it in; nothing is reckoned before it is asked for."""
        self.holdings = tuple(holdings)
        self._columns: dict[tuple[FrameKind, ...], HoldingColumns] = {}
        self._focal_lengths_mm: dict[str | None, tuple[float, float]] | None = None

    def columns(self, kinds: tuple[FrameKind, ...]) -> HoldingColumns:
        """The holdings of these kinds, their settings taken apart."""
        if kinds not in self._columns:
            self._columns[kinds] = HoldingColumns([h for h in self.holdings if h.kind in kinds])
        return self._columns[kinds]

    def of(self, *kinds: FrameKind) -> tuple[Holding, ...]:
        """The holdings of these kinds."""
        return self.columns(kinds).holdings

    def focal_lengths_mm(self, telescope: str | None) -> tuple[float, float] | None:
        """The shortest and the longest focal length of a telescope's flats; None where none is known."""
        if self._focal_lengths_mm is None:
            found: dict[str | None, tuple[float, float]] = {}
            for holding in self.of(FrameKind.FLAT):
                length, name = holding.settings.focal_length_mm, plain_name(holding.settings.telescope)
                if length is not None:
                    low, high = found.get(name, (length, length))
                    found[name] = (min(low, length), max(high, length))
            self._focal_lengths_mm = found
        return self._focal_lengths_mm.get(plain_name(telescope))


class Role(Enum):
    """What a holding is to do."""

    DARK = "the dark of lights"
    FLAT = "the flat of lights"
    DARK_FLAT = "the dark flat of a flat"
    BIAS = "the bias of a flat"


#: What may be cropped to the lights: what is taken off flats before they are combined is not.
CROPPED = (Role.DARK, Role.FLAT)
#: Which kinds may do it: a dark of a flat's exposure is as good as its dark flat.
_KINDS = {
    Role.DARK: (FrameKind.DARK,),
    Role.FLAT: (FrameKind.FLAT,),
    Role.DARK_FLAT: (FrameKind.DARK_FLAT, FrameKind.DARK),
    Role.BIAS: (FrameKind.BIAS,),
}
#: The same by the kind that a line of a slip is of.
KINDS_FOR = {
    FrameKind.DARK: _KINDS[Role.DARK],
    FrameKind.FLAT: _KINDS[Role.FLAT],
    FrameKind.DARK_FLAT: _KINDS[Role.DARK_FLAT],
}
_JUDGES = {
    Role.DARK: judge_dark,
    Role.FLAT: judge_flat,
    Role.DARK_FLAT: judge_dark_flat,
    Role.BIAS: judge_bias,
}


@dataclass(frozen=True)
class Wanted:
    """What is looked for, for whom, and on what terms."""

    role: Role
    settings: CommonSettings
    terms: Terms

    @property
    def kinds(self) -> tuple[FrameKind, ...]:
        """The kinds that may do."""
        return _KINDS[self.role]

    def not_the_same_sensor(self, have: CommonSettings) -> list[str]:
        """Why a holding of these settings is no candidate at all (`judge.not_the_same_sensor`)."""
        return not_the_same_sensor(self.settings, have, crops=self.role in CROPPED)

    def judge(self, holding: Holding) -> Candidate:
        """How one holding does."""
        return _JUDGES[self.role](self.settings, holding, self.terms)


def _same_terms(terms: Terms) -> tuple[int | bool, ...]:
    """The same for terms that differ in their lights alone."""
    parts = (terms.tolerances, terms.traits, terms.says, terms.events)
    return (*(id(part) for part in parts), terms.several_focal_lengths, terms.several_cameras)


def _best_ranks(stock: Stock, role: Role, wanted: Sequence[Wanted]) -> BestRanks:
    """Of what is wanted on the same terms, but for the lights."""
    have, wants, terms = stock.columns(_KINDS[role]), [w.settings for w in wanted], wanted[0].terms
    if role is Role.DARK:
        return best_darks(have, wants, terms, [w.terms.lights.background_e for w in wanted])
    if role is Role.FLAT:
        return best_flats(have, wants, terms)
    return (best_dark_flats if role is Role.DARK_FLAT else best_bias)(have, wants, terms)


def best_ranks(stock: Stock, wanted: Sequence[Wanted]) -> list[RowOfRanks]:
    """For each that is wanted, the best rank that each candidate could have."""
    alike: dict[tuple[object, ...], list[int]] = defaultdict(list)
    for number, one in enumerate(wanted):
        alike[(one.role, *_same_terms(one.terms))].append(number)
    found: dict[int, RowOfRanks] = {}
    for numbers in alike.values():
        for start in range(0, len(numbers), _AT_ONCE):
            part = numbers[start : start + _AT_ONCE]
            ranks = _best_ranks(stock, wanted[part[0]].role, [wanted[i] for i in part])
            found.update({number: ranks.row(i) for i, number in enumerate(part)})
    return [found[i] for i in range(len(wanted))]


def foremost(row: RowOfRanks, wanted: Wanted, most: int) -> list[Candidate]:
    """The first `most` candidates in the order of `rank`, the same as if all had been judged."""
    first = row.first()
    if first is None:
        return []
    if most == 1:
        judged = wanted.judge(first)
        if row.could_precede(foretold(judged)) <= 1:
            # None but itself.
            return [judged]
    found: list[tuple[tuple[object, ...], Candidate]] = []
    for best, holding in row.in_order():
        if len(found) >= most and foretold(found[most - 1][1]) < best:
            break
        candidate = wanted.judge(holding)
        insort(found, (rank(candidate), candidate), key=lambda ranked: ranked[0])
    return [candidate for _, candidate in found[:most]]
