"""Sets of lights, and what each asks for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, fields, replace
from datetime import date, datetime
from functools import cached_property

from sqlalchemy import select

from grayshelf.core.frames.facts import FrameFacts
from grayshelf.core.frames.sets import nominal_temperature
from grayshelf.core.matching.judge import Terms
from grayshelf.core.matching.model import CommonSettings, LightsNoise
from grayshelf.library.camera_values import measured_gain
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.holdings import common_settings
from grayshelf.library.kept import RowsKept, in_parts, kept
from grayshelf.library.left_out import made_of_each
from grayshelf.library.library import Library
from grayshelf.library.models import FrameSet, Rig
from grayshelf.library.trains import sorter

#: Under what it is kept with a set of lights what a person chose for them (`FrameSet.said`).
BY_HAND = "by hand"
#: Beside it: that the dark which they chose is to be scaled to the lights.
SCALED = "dark scaled"


@dataclass(frozen=True)
class LightRow:
    """A set of lights as the database has it, as far as it is asked for: it is kept, and no session with it."""

    id: int
    kind: str
    night: date | None
    n_frames: int
    n_kept: int
    sample_step: int | None
    level_adu: float | None
    noise_adu: float | None
    first_utc: datetime | None
    last_utc: datetime | None


_OF_ROW = tuple(f.name for f in fields(LightRow))


@dataclass(frozen=True)
class LightSet:
    """A set of lights and what it asks for."""

    row: LightRow
    facts: FrameFacts
    want: CommonSettings
    by_hand: dict[str, str] = field(default_factory=dict)
    """What a person chose for them: by kind, the number of the set or master."""
    scaled: bool = False
    """Whether the dark that the person chose is to be scaled to them."""

    @cached_property
    def nominal(self) -> CommonSettings:
        """What frames shot for them are to have: the same at the temperature that was asked for."""
        temp = nominal_temperature(self.facts.sensor_temp_c, self.facts.set_temp_c)
        return self.want if temp == self.want.sensor_temp_c else replace(self.want, sensor_temp_c=temp)


#: The light sets of a camera as rows, oldest first: what is made of one changes where one of these does.
_LIGHTS = """
    SELECT id, facts, said, n_frames, n_kept, sample_step, level_adu, noise_adu, first_utc, last_utc, night
    FROM frame_set WHERE kind = 'light' AND camera = ? ORDER BY night, first_utc, id
"""


@kept(32)
def lights_made(library: Library, camera: str) -> RowsKept[LightSet]:
    """Light sets of a camera as they were last made; a library's own."""
    return RowsKept()


@kept(8)
def _of_camera(library: Library, revision: int, camera: str) -> list[LightSet]:
    with library.db.own_session() as session:
        rows = {row[0]: tuple(row) for row in session.connection().exec_driver_sql(_LIGHTS, (camera,))}

        def make(ids: Sequence[int]) -> dict[int, LightSet]:
            found: dict[int, LightSet] = {}
            for part in in_parts(ids):
                sets = session.scalars(select(FrameSet).where(FrameSet.id.in_(part)))
                found |= made_of_each(library, "lights", sets, light_set)
            return found

        return lights_made(library, camera).renewed(rows, make)


def light_sets(library: Library, rig: Rig) -> Sequence[LightSet]:
    """The light sets of a rig, oldest first; kept until one changes. What was stacked of lights is none, nor are copies of
    lights that another program calibrated, where the lights themselves are here."""
    return _of_rig(library, library.revision, rig.id, rig.camera)


@kept(16)
def _of_rig(library: Library, revision: int, rig_id: int, camera: str) -> Sequence[LightSet]:
    whose = sorter(library)
    found = _of_camera(library, revision, camera)
    own = [s for s in found if not s.facts.stacked and whose.of(s.facts) == rig_id]
    if not any(s.facts.calibrated for s in own):
        return own
    raw = {_shot_as(s) for s in own if not s.facts.calibrated}
    return [s for s in own if not s.facts.calibrated or _shot_as(s) not in raw]


def _shot_as(lights: LightSet) -> tuple[object, ...]:
    """The same for lights and for calibrated copies of them."""
    facts = lights.facts
    return lights.row.night, facts.target, facts.filter_code, facts.exposure_s, facts.gain, facts.binning


def light_set(row: FrameSet) -> LightSet:
    """One set of lights in the words of matching."""
    facts = facts_from_json(row.facts)
    kept_of_row = LightRow(**{name: getattr(row, name) for name in _OF_ROW})
    chosen = row.said.get(BY_HAND) or {}
    return LightSet(kept_of_row, facts, common_settings(row, facts), dict(chosen), bool(row.said.get(SCALED)))


def electrons_per_adu(library: Library, lights: LightSet) -> float | None:
    """e⁻/ADU of a set of lights: as the Bench measured it, else as their header says."""
    measured = measured_gain(library, lights.want.camera or "", lights.want.gain)
    return measured.e_per_adu if measured else lights.facts.electrons_per_adu


def light_terms(library: Library, lights: LightSet, terms: Terms) -> Terms:
    """On what terms a set of lights is served: how many they are and how noisy their background is.

    Parameters
    ----------
    terms
        Of their rig, at their gain (`terms_of`).
    """
    conversion, noise_adu = electrons_per_adu(library, lights), lights.row.noise_adu
    background = noise_adu * conversion if noise_adu is not None and conversion else None
    return replace(terms, lights=LightsNoise(max(lights.row.n_kept, 1), background, lights.row.level_adu))
