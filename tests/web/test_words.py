"""Numbers, dates and rulers as people say them."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta

import pytest

from grayshelf.core.frames.facts import uses_iso
from grayshelf.core.matching import rulers
from grayshelf.web.common import in_words as w
from tests.helpers import LONDON, settings

THIN = "\u2009"


@pytest.mark.parametrize(
    ("made", "said"),
    [
        (w.number(-1234.5, 1), "−1,234.5"), (w.number(-0.04, 1), "0.0"), (w.plain(0.78), "0.78"), (w.plain(-10.0), "−10"),
        (w.seconds(12_345.0), f"12345{THIN}s"), (w.seconds(300.0), f"300{THIN}s"), (w.seconds(1 / 60), f"1/60{THIN}s"), (w.seconds(0.783), f"0.783{THIN}s"),
        (w.degrees_c(-10), f"−10{THIN}°C"), (w.duration(40), f"40{THIN}s"), (w.duration(timedelta(minutes=72)), f"1{THIN}h 12{THIN}min"),
        (w.duration(9045), f"2{THIN}h 31{THIN}min"), (w.duration(7200), f"2{THIN}h"), (w.day(date(2026, 9, 12)), "12 Sep 26"),
        (w.day(None), "no date"), (w.long_day(date(2026, 10, 18)), "Sunday 18 October 2026"), (w.several(1, "light"), "1 light"),
        (w.several(3400, "light"), "3,400 lights"), (w.listed(["L", "R", "G"]), "L, R and G"), (w.listed([]), ""),
        (w.days([date(2026, 10, 3), date(2026, 10, 2), None]), "2 and 3 Oct"),
        (w.days([date(2026, 9, 30), date(2026, 10, 2)]), "30 Sep and 2 Oct"), (w.days([]), "no date"),
        (w.clock(datetime(2026, 10, 19, 0, 12, tzinfo=UTC), LONDON), "01:12"),
        (w.several(200, "bias"), "200 bias"), (w.several(2, "master bias"), "2 master bias"), (w.exposure(None), "exposure not known"),
        (w.series(20, 300.0), f"20 × 300{THIN}s"), (w.series(3, None), "3 lights, exposure not known"),
    ],
)  # fmt: skip
def test_as_people_say_them(made, said):
    assert made == said


def test_distances_beside_their_rulers():
    want = settings()

    def text(ruler):
        return w.ruler_out(ruler).text

    assert text(rulers.temperature(want, settings(sensor_temp_c=-6.9), 1.0)) == f"+3.1{THIN}°C"
    assert text(rulers.temperature(want, settings(sensor_temp_c=None), 1.0)) == "unknown"
    assert text(rulers.exposure(want, settings(exposure_s=180.0), 1.0)) == f"−120{THIN}s"
    assert text(rulers.exposure(want, settings(), 1.0)) == f"0{THIN}s"
    assert text(rulers.exposure(settings(exposure_s=4.33), settings(exposure_s=5.0), 2.0)) == f"+0.67{THIN}s"
    assert text(rulers.band("level", 32800, 30660, 2000, "ADU")) == f"−2,140{THIN}ADU"
    assert text(rulers.exact("binning", (1, 1), (2, 2))) == "2×2"
    assert text(rulers.exact("gain", 200.0, 100.0)) == "100"
    assert text(rulers.age_nights(want, settings(night=date(2026, 10, 11)), 2)) == "7 nights"
    assert text(rulers.age_nights(want, settings(), 2)) == "same night"
    days = {0: "same day", 5: "5 days", 36: "5 weeks", 399: "13 months"}
    for count, said in days.items():
        assert text(rulers.age_days(want, settings(night=want.night - timedelta(days=count)), 270)) == said


def test_at_the_limit_is_inside():
    assert rulers.band("x", 0.1, 0.1 + 0.2, 0.2, "s").inside
    assert not rulers.band("x", 0.1, 0.1 + 0.2001, 0.2, "s").inside
    assert rulers.exact("gain", None, None).unknown, "two unknowns are not equal"
    assert uses_iso([1600, None, 800])
    assert not uses_iso([100.0, 200.0])
