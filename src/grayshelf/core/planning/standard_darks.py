"""Standard darks of a house rule: those that no dark on the shelf stands for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.judge import Terms
from grayshelf.core.matching.match import choose
from grayshelf.core.matching.model import CommonSettings, RigSays, Verdict
from grayshelf.core.matching.stock import Role, Stock, Wanted
from grayshelf.core.rigs.house_rules import HouseRules

#: Settings of a camera that come and go in lights; its darks are wanted at those that were used last.
SET_UPS = 3


def set_ups_in_use(lights: Sequence[CommonSettings], says: RigSays = RigSays()) -> list[CommonSettings]:
    """The gains, offsets and binnings that lights were last taken at, the newest first, `SET_UPS` at most.

    Parameters
    ----------
    lights
        What light sets ask for, oldest first. Those that do not tell their gain or offset are passed over.
    says
        Of a camera that has no gain or offset to set: its lights need tell none.
    """
    found: dict[tuple[object, ...], CommonSettings] = {}
    for want in reversed(lights):
        if says.can_set("gain", want.gain) and says.can_set("offset", want.offset):
            found.setdefault((want.gain, want.offset, want.binning, want.read_mode, want.width), want)
        if len(found) == SET_UPS:
            break
    return list(found.values())


def missing_standards(
    rules: HouseRules, lights: Sequence[CommonSettings], shelf: Stock, terms: Terms
) -> list[CommonSettings]:
    """What standard darks of a house rule are to have, for every set-up in use, where none on the shelf fits.

    Parameters
    ----------
    lights
        What light sets ask for, oldest first.
    terms
        Those of the rig.
    """
    wants = [
        replace(want, sensor_temp_c=temp, exposure_s=exposure, held=True, temp_range_c=0.0)
        for want in set_ups_in_use(lights, terms.says)
        for temp in rules.dark_temps_c
        for exposure in rules.dark_exposures_s
    ]
    found = choose(FrameKind.DARK, shelf, [Wanted(Role.DARK, want, terms) for want in wants], runners_up=0)
    return [want for want, line in zip(wants, found, strict=True) if line.verdict is Verdict.NOTHING]
