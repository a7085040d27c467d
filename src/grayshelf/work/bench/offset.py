"""The offset exercise with a rig: cap on, bias frames coarse to fine, confirmed with fresh ones."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import asdict, replace

from sqlalchemy.orm import Session

from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.planning.gates import cap_for_bias
from grayshelf.core.sensor.bias import read_bias
from grayshelf.core.sensor.offset import OffsetDone, OffsetLadder, ShootBias, next_bias
from grayshelf.devices.ports import RigDevices
from grayshelf.library.library import Library
from grayshelf.library.measurements import ladder_of, offset_result
from grayshelf.library.models import Measurement, Rig, RunStep
from grayshelf.library.records import as_kept
from grayshelf.library.rig_terms import gain_word
from grayshelf.library.step_records import MeasureOutcome, MeasureParams
from grayshelf.work.bench.exercise import Exercise, make_job, make_measurement, settings_at_start
from grayshelf.work.gates import gate_step
from grayshelf.work.shooting import ShotSettings

#: About so many frames for each gain, before anything is known: four coarse rungs, two fine ones, the confirmation.
USUAL_FRAMES = 4 * 4 + 2 * 8 + 16


def usual_seconds(devices: RigDevices, n_gains: int, long_dark_s: float) -> float:
    """About how long the exercise takes."""
    camera = devices.camera.facts
    return n_gains * (USUAL_FRAMES * (camera.download_s + camera.shortest_s) + long_dark_s)


def plan_offset(
    session: Session,
    library: Library,
    rig: Rig,
    devices: RigDevices,
    gains: Sequence[float],
    margin_adu: float | None,
    long_dark_s: float,
    folder: str | None = None,
) -> int:
    """Write the exercise down; return its job."""
    row = make_measurement(
        session,
        library,
        rig,
        devices,
        "offset",
        gains,
        replace(settings_at_start(devices), margin_adu=margin_adu, long_dark_s=long_dark_s),
    )
    steps = [gate_step(cap_for_bias())]
    word = gain_word(library, row.camera)
    steps += [
        RunStep(
            kind="ladder",
            title=f"Offset at {word} {g:g}",
            count=USUAL_FRAMES,
            params=as_kept(MeasureParams(g)),
        )
        for g in row.gains
    ]
    words = " and ".join(f"{g:g}" for g in row.gains)
    return make_job(session, library, rig, row, f"Offset of {row.camera} at {word} {words}", steps, folder)


class OffsetExercise(Exercise):
    """Bias frames at several offsets, for one gain after the other."""

    def measure(self, step: RunStep, gain: float) -> None:
        """One gain: shoot what the frames so far ask for, until they ask for nothing."""
        while True:
            with self.library.db.session() as session:
                row = session.get_one(Measurement, self.id)
                ladder = ladder_of(row)
                # Kept for the page that is looked at meanwhile.
                readings, read = offset_result(self.library, session, row, gain)
            decision = next_bias(readings, ladder, read)
            if isinstance(decision, OffsetDone):
                self.end(step, outcome=MeasureOutcome(f"Gain {gain:g}: {decision.message}"))
                return
            self._shoot(step, gain, decision, len(readings), ladder)

    def _shoot(
        self, step: RunStep, gain: float, wanted: ShootBias, n_before: int, ladder: OffsetLadder
    ) -> None:
        long = wanted.exposure_s is not None
        exposure = wanted.exposure_s or self.devices.camera.facts.shortest_s
        role = "dark" if long else "bias"
        # A frame that was not read before the process was killed is found again under its name.
        there = Counter(s.offset for s in self.frames(gain, role) if s.reading)[wanted.offset]
        for number in range(there + 1, there + wanted.count + 1):
            kind = FrameKind.DARK if long else FrameKind.BIAS
            self.still = there + wanted.count + 1 - number
            taken, shot = self.take(
                gain,
                wanted.offset,
                role,
                ShotSettings(kind, exposure, gain, wanted.offset),
                name=f"o{wanted.offset:g}_{role}_{number:03d}",
                why=wanted.why,
            )
            reading = read_bias(taken.pixels, wanted.offset, exposure if long else 0.0)
            self.read(shot, asdict(reading))
            n_before += 1
            self.progress(
                step, n_before, step.count, f"Gain {gain:g}, offset {wanted.offset:g}: {wanted.why}"
            )
            if n_before >= step.count:
                step.count = min(n_before + ladder.frames_fine, ladder.most_frames + 1)
