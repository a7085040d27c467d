"""What of the shelf another gain or offset would leave without lights."""

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.left_behind import CappedShelf
from tests.core.holdings import hold

DARK, BIAS, DARK_FLAT = FrameKind.DARK, FrameKind.BIAS, FrameKind.DARK_FLAT
SHELF = CappedShelf(
    [
        hold("1"), hold("2", exposure_s=60.0), hold("3", BIAS), hold("4", DARK_FLAT, is_master=False),
        hold("5", offset=12.0), hold("6", gain=100.0), hold("7", gain=0.0, offset=0.0),
        # Flats have their own; what does not say its gain or offset is in doubt wherever it goes.
        hold("8", FrameKind.FLAT), hold("9", gain=None), hold("10", offset=None),
    ]
)  # fmt: skip


def test_an_offset_leaves_what_has_another_at_its_gain():
    found = SHELF.without_offset(200.0, 12.0)
    assert found.counts == {DARK: 2, DARK_FLAT: 1, BIAS: 1} and found.at == (30.0,) and found.others == 1
    assert list(found.counts) == [DARK, DARK_FLAT, BIAS], "in the order in which they are told"
    assert SHELF.without_offset(200.0, 30.0).counts == {DARK: 1}
    new = SHELF.without_offset(200.0, 0.0)
    assert new.at == (12.0, 30.0) and new.others == 0, "0 is an offset like any other"
    assert not SHELF.without_offset(300.0, 30.0).counts, "nothing is of that gain"


def test_a_gain_leaves_what_has_another():
    found = SHELF.without_gain(100.0)
    assert found.counts == {DARK: 5, DARK_FLAT: 1, BIAS: 1} and found.at == (0.0, 200.0) and found.others == 1
    assert SHELF.without_gain(0.0).at == (100.0, 200.0)
    assert SHELF.without_gain(50.0).others == 0
    assert not CappedShelf([]).without_gain(100.0).counts
