"""What frames take beside their exposures, by series that other cameras and habits leave behind."""

from datetime import UTC, datetime, timedelta

import pytest

from grayshelf.core.planning.frame_pace import Begun, beside_exposure_s

START = datetime(2026, 3, 28, 23, 30, tzinfo=UTC)


def series(number, exposures, beside_s):
    """Frames one after the other."""
    at, frames = START + timedelta(hours=number), []
    for exposure_s in exposures:
        frames.append(Begun(number, at, exposure_s))
        at += timedelta(seconds=exposure_s + beside_s)
    return frames


@pytest.mark.parametrize("beside_s", [0.05, 0.7, 22.0])
def test_it_is_told_whatever_the_exposures_and_the_pause_are(beside_s):
    bias, darks = series(1, [0.001] * 20, beside_s + 5.0), series(2, [300.0, 600.0, 120.0], beside_s + 5.0)
    assert beside_exposure_s([*bias, *darks], pause_s=5.0) == pytest.approx(beside_s)
    # A hand was waited for once, and a clock was put back by a second: neither is the pace.
    late = [
        Begun(3, f.at + timedelta(hours=n > 4), f.exposure_s)
        for n, f in enumerate(series(3, [2.0] * 9, beside_s))
    ]
    assert beside_exposure_s(late) == pytest.approx(beside_s)


def test_too_few_pairs_tell_nothing_and_two_series_are_no_pair():
    assert beside_exposure_s(series(1, [1.0] * 4, 1.0)) is None
    assert beside_exposure_s([f for n in range(9) for f in series(n, [1.0], 1.0)]) is None
    # Frames that began at once, by a clock of whole seconds, took no less than nothing.
    assert beside_exposure_s([Begun(1, START, 0.5)] * 6) == 0.0
