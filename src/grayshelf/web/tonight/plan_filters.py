"""The filters that a plan can have, each with what its lights are taken at."""

from __future__ import annotations

from grayshelf.core.planning.night_plan import NightPlan
from grayshelf.core.rigs.names import is_broad
from grayshelf.library.library import Library
from grayshelf.library.lights import light_sets
from grayshelf.library.models import Rig
from grayshelf.web.tonight.plan_schemas import FilterChoiceOut
from grayshelf.work.run.reach import binning_of


def filters_of_plan(
    library: Library, rig: Rig, bands: dict[str, float | None], begin: NightPlan | None
) -> list[FilterChoiceOut]:
    """Each filter with what its lights were last taken at; one that had none as the newest lights were.

    Parameters
    ----------
    begin
        Where the plan begins: its filters are those of a rig that has no lights.
    """
    newest: dict[str, FilterChoiceOut] = {}
    widths = {f.code: f.width_nm for f in rig.filters}
    lights = light_sets(library, rig)
    for one in reversed(lights):
        want, code = one.nominal, one.nominal.filter_code or "none"
        if code not in newest and want.exposure_s is not None:
            newest[code] = FilterChoiceOut(
                filter_code=code,
                passband_nm=bands.get(code),
                broad=is_broad(code, widths.get(code)),
                exposure_s=want.exposure_s,
                count=one.row.n_frames,
                gain=want.gain or 0.0,
                offset=want.offset or 0.0,
                binning=binning_of(want),
            )
    if not lights and begin is not None:
        for planned in begin.targets[0].lights:
            newest[planned.filter_code] = FilterChoiceOut(
                **vars(planned),
                passband_nm=bands.get(planned.filter_code),
                broad=is_broad(planned.filter_code, widths.get(planned.filter_code)),
            )
    usual = next(iter(newest.values()), None)
    for known in rig.filters:
        if usual is not None and known.code not in newest:
            newest[known.code] = usual.model_copy(
                update={
                    "filter_code": known.code,
                    "passband_nm": bands.get(known.code),
                    "broad": is_broad(known.code, widths.get(known.code)),
                }
            )
    order = {f.code: f.position for f in rig.filters}
    return sorted(newest.values(), key=lambda f: (order.get(f.filter_code, 99), f.filter_code))
