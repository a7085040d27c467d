"""Flats on the twilight sky: how it fades, which exposure a fading sky needs, and what to do next.

The sky near the zenith fades by a nearly constant factor a minute, which depends on latitude and season (Tyson & Gal
1993, AJ 105, 1206, from memory). So the rate at time `s` is ``R₀·exp(−λ·s)``; a level `L` above the pedestal takes
``t = −ln(1 − λ·L/R₀)/λ``, which exists only while ``λ·L < R₀``. At dawn λ is negative, and it always exists.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

#: What to take of the fade before it was seen: ×0.8 a minute (Tyson & Gal 1993, from memory), and its spread.
USUAL_FADE_PER_MIN, FADE_SPREAD = 0.22, 0.35
#: And once other filters showed it.
SEEN_SPREAD = 0.05
#: A test of the sky is repeated after so long where it was too bright (at dawn too dim) to be read.
LOOK_AGAIN_S = 45.0
#: By the sun alone, a window may open so much sooner: a factor of two in light.
LOOK_BEFORE_S = 300.0
#: No wait is shorter or longer than these; by the sun alone it may be hours to the twilight.
SHORTEST_WAIT_S, LONGEST_WAIT_S, LONGEST_WAIT_BY_SUN_S = 1.0, 600.0, 86_400.0
#: A frame's light is read where it lies between these shares of full.
READ_FROM, READ_TO = 0.02, 0.95
#: Above this share of full, a frame tells the sky's light only roughly.
BENT = 0.8
#: A look at the sky is old after so long.
OLD_LOOK_S = 90.0
#: A level of a frame of the sky repeats to this share: stars and gradients move through it.
SKY_ERROR = 0.01


@dataclass(frozen=True)
class SkyShot:
    """A frame of the sky: when it began, in seconds on any scale, how long, and its light in ADU above the pedestal."""

    began_s: float
    exposure_s: float
    signal_adu: float
    flat: bool = False
    """Judged, when it was taken, to be one of those wished for."""
    brightest_adu: float | None = None
    """Above the pedestal: its brightest 0.1 %."""


def exposures_for(
    level_adu: float, rates_adu_s: NDArray[np.float64], per_s: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Exposures that collect so much light from skies of these rates, fading so; nan where none ever does."""
    per_s = np.where(np.abs(per_s) < 1e-12, 1e-12, per_s)
    with np.errstate(over="ignore", invalid="ignore", divide="ignore"):
        exposures: NDArray[np.float64] = -np.log1p(-per_s * level_adu / rates_adu_s) / per_s
    return np.where(np.isfinite(exposures), exposures, np.nan)


@dataclass(frozen=True)
class Fade:
    """The sky's rate through one filter: `rate_adu_s` at `at_s`, falling by `per_s` (natural log) each second."""

    rate_adu_s: float
    at_s: float
    per_s: float

    def rate(self, at_s: float) -> float:
        """ADU a second at a time."""
        return self.rate_adu_s * math.exp(-self.per_s * (at_s - self.at_s))

    def light(self, began_s: float, exposure_s: float) -> float:
        """Light in a frame, in ADU above the pedestal."""
        if abs(self.per_s) * exposure_s < 1e-9:
            return self.rate(began_s) * exposure_s
        return self.rate(began_s) * -math.expm1(-self.per_s * exposure_s) / self.per_s

    def exposure_for(self, level_adu: float, began_s: float) -> float | None:
        """The exposure that collects so much light from a time on; None where the sky never gives it any more."""
        exposure = exposures_for(level_adu, np.array([self.rate(began_s)]), np.array([self.per_s]))[0]
        return None if math.isnan(exposure) else float(exposure)

    def time_of_rate(self, rate_adu_s: float) -> float:
        """When the sky has so much light."""
        return self.at_s + math.log(self.rate_adu_s / rate_adu_s) / self.per_s


def usual_fade(*, dawn: bool) -> float:
    """What to take of the fade, in natural log each second, before it was seen."""
    return (-1.0 if dawn else 1.0) * USUAL_FADE_PER_MIN / 60.0


def fit_fade(
    shots: Sequence[SkyShot], *, dawn: bool, seen_per_s: float | None = None, usual_per_s: float | None = None
) -> Fade | None:
    """The fade through the shots of one filter; None where there is none.

    The usual fade counts as one weak measurement, so that a single shot is enough for a first answer.

    Parameters
    ----------
    seen_per_s
        The fade that other filters showed this evening: the sky fades alike in all of them, nearly.
    usual_per_s
        What to take of it before, as the sun goes at this place and date; None takes the usual one.
    """
    read = [s for s in shots if s.signal_adu > 0 and s.exposure_s > 0]
    if not read:
        return None
    usual = usual_fade(dawn=dawn) if usual_per_s is None else usual_per_s
    prior = usual if seen_per_s is None else seen_per_s
    spread = FADE_SPREAD if seen_per_s is None else SEEN_SPREAD
    centre = read[-1].began_s
    per_s = prior
    log_rate = 0.0
    for _ in range(6):
        # The mean rate over an exposure is that of its start, times how the sky goes on meanwhile.
        held = [-math.expm1(-per_s * s.exposure_s) / (per_s * s.exposure_s) if per_s else 1.0 for s in read]
        logs = np.array([math.log(s.signal_adu / s.exposure_s / h) for s, h in zip(read, held, strict=True)])
        times = np.array([s.began_s - centre for s in read])
        rows = np.column_stack([np.ones(len(read)), -times]) / SKY_ERROR
        rows = np.vstack([rows, [0.0, 1.0 / (spread * abs(prior))]])
        values = np.append(logs / SKY_ERROR, prior / (spread * abs(prior)))
        log_rate, per_s = (float(v) for v in np.linalg.lstsq(rows, values, rcond=None)[0])
    return Fade(math.exp(log_rate), centre, per_s)


@dataclass(frozen=True)
class SkyWindow:
    """When the sky through a filter takes permitted exposures, in seconds on the fade's scale."""

    opens_s: float
    shuts_s: float


def sky_window(fade: Fade, level_adu: float, shortest_s: float, longest_s: float) -> SkyWindow:
    """When a filter's flats can be shot: the sky neither too bright for the shortest nor too dim for the longest."""
    brightest = level_adu * fade.per_s / -math.expm1(-fade.per_s * shortest_s)
    dimmest = level_adu * fade.per_s / -math.expm1(-fade.per_s * longest_s)
    ends = fade.time_of_rate(brightest), fade.time_of_rate(dimmest)
    return SkyWindow(min(ends), max(ends))


def order_filters(rates_adu_s: dict[str, float], *, dawn: bool) -> list[str]:
    """At dusk the filter that sees least light first, while the sky is bright; at dawn last."""
    return sorted(rates_adu_s, key=lambda code: rates_adu_s[code], reverse=dawn)


@dataclass(frozen=True)
class SkySeries:
    """Flats of one filter on the sky: so many, of a level above the pedestal, within permitted exposures."""

    code: str
    count: int
    level_adu: float
    tolerance_adu: float
    full_adu: float
    """Light at which a frame is full, above the pedestal."""
    shortest_s: float
    longest_s: float
    scale_adu_s: float | None = None
    """Of its light where the forecast's is 1, against other filters if nothing else."""
    opens_s: float | None = None
    """When its window opens by the forecast, on the scale of the shots: nobody looks long before."""
    limit_adu: float | None = None
    """Above the pedestal: the brightest 0.1 % of a frame must stay below it."""

    def can_read(self, signal_adu: float) -> bool:
        """Whether the sky's light can be read from a frame: it is neither full nor dark."""
        return READ_FROM * self.full_adu < signal_adu < READ_TO * self.full_adu

    def is_flat(self, shot: SkyShot) -> bool:
        """Whether a frame came out as it should, and is no look at the sky."""
        return abs(shot.signal_adu - self.level_adu) <= self.tolerance_adu

    def below_limit(self, shots: Sequence[SkyShot]) -> SkySeries:
        """The same with a level at which the brightest pixels stay below the limit, by what shots showed of them."""
        read = [s for s in shots if s.brightest_adu is not None and self.can_read(s.brightest_adu)]
        if self.limit_adu is None or not read:
            return self
        contrast = max((s.brightest_adu or 0.0) / s.signal_adu for s in read)
        return replace(self, level_adu=min(self.level_adu, self.limit_adu / max(contrast, 1.0)))


@dataclass(frozen=True)
class SkyShoot:
    """Take a frame like this now."""

    code: str
    exposure_s: float
    test: bool
    """Too little is known of the sky in the filter: it is looked at, and the frame is no flat."""


@dataclass(frozen=True)
class SkyWait:
    """The sky is not there yet for the next filter."""

    code: str
    seconds: float
    why: str


@dataclass(frozen=True)
class SkyDone:
    """All flats are shot, or the sky is gone for those that are not."""

    missed: tuple[str, ...]


def counted(shots: Sequence[SkyShot]) -> int:
    """How many shots of a filter are flats."""
    return sum(s.flat for s in shots)


def evening_fade(
    shots: Mapping[str, Sequence[SkyShot]], *, dawn: bool, usual_per_s: float | None = None
) -> float | None:
    """The fade that the filters with several shots agree on; None where there is none yet."""
    fits = [fit_fade(s, dawn=dawn, usual_per_s=usual_per_s) for s in shots.values() if len(s) >= 4]
    known = [f.per_s for f in fits if f is not None]
    return float(np.median(known)) if known else None


def next_sky_step(
    wishes: Sequence[SkySeries],
    shots: Mapping[str, Sequence[SkyShot]],
    now_s: float,
    *,
    dawn: bool,
    usual_per_s: float | None = None,
) -> SkyShoot | SkyWait | SkyDone:
    """What to do now, in a twilight in which every frame has an exposure of its own.

    Parameters
    ----------
    wishes
        In the order to shoot them: see `order_filters`.
    shots
        All frames of each filter so far; a full one with `full_adu`.
    now_s
        The time, on the scale of the shots.
    usual_per_s
        The fade to take before it was seen; None takes the usual one.
    """
    missed = []
    readable = {w.code: newest_read(w, shots.get(w.code, ())) for w in wishes}
    seen = evening_fade(readable, dawn=dawn, usual_per_s=usual_per_s)
    for wish in wishes:
        own = list(shots.get(wish.code, ()))
        if counted(own) >= wish.count:
            continue
        wish = wish.below_limit(own)
        fade = sky_through(wish, own, dawn=dawn, seen_per_s=seen, usual_per_s=usual_per_s)
        if fade is None:
            guess = _guess(wish, wishes, shots, dawn=dawn, usual_per_s=usual_per_s)
            step = _look(wish, own, now_s, guess, dawn=dawn)
        else:
            step = _expose(wish, fade, now_s, dawn=dawn)
            if isinstance(step, SkyShoot) and _is_rough(wish, newest_read(wish, own), now_s):
                step = replace(step, test=True)
        if step is not None:
            return step
        missed.append(wish.code)
    return SkyDone(tuple(missed))


def newest_read(wish: SkySeries, shots: Sequence[SkyShot]) -> list[SkyShot]:
    """The newest shots of a filter that can be read: older ones are of another sky."""
    return [s for s in shots if wish.can_read(s.signal_adu)][-12:]


def _is_rough(wish: SkySeries, read: Sequence[SkyShot], now_s: float) -> bool:
    """Whether what was seen is good enough to look again by, but not for a flat.

    Near full no sensor is straight; and from one or two looks some minutes ago the fade is no more than a guess.
    """
    if all(s.signal_adu > BENT * wish.full_adu for s in read):
        return True
    return len(read) < 3 and now_s - max(s.began_s for s in read) > OLD_LOOK_S


def sky_through(
    wish: SkySeries,
    shots: Sequence[SkyShot],
    *,
    dawn: bool,
    seen_per_s: float | None = None,
    usual_per_s: float | None = None,
) -> Fade | None:
    """The sky through a filter by its newest shots that can be read; None where none can."""
    return fit_fade(newest_read(wish, shots), dawn=dawn, seen_per_s=seen_per_s, usual_per_s=usual_per_s)


def _guess(
    wish: SkySeries,
    wishes: Sequence[SkySeries],
    shots: Mapping[str, Sequence[SkyShot]],
    *,
    dawn: bool,
    usual_per_s: float | None,
) -> Fade | None:
    """The sky through a filter that was not read yet, from one that was and how much of the light each sees."""
    for other in reversed(wishes):
        if wish.scale_adu_s is None or other.scale_adu_s is None or other.code == wish.code:
            continue
        fade = sky_through(other, shots.get(other.code, ()), dawn=dawn, usual_per_s=usual_per_s)
        if fade is not None:
            return Fade(fade.rate_adu_s * wish.scale_adu_s / other.scale_adu_s, fade.at_s, fade.per_s)
    return None


def _wait(wish: SkySeries, seconds: float, why: str, longest_s: float = LONGEST_WAIT_S) -> SkyWait:
    """A wait that moves the clock, and is not so long that the sky is not looked at again."""
    return SkyWait(wish.code, min(max(seconds, SHORTEST_WAIT_S), longest_s), why)


def _look(
    wish: SkySeries, own: Sequence[SkyShot], now_s: float, guess: Fade | None, *, dawn: bool
) -> SkyShoot | SkyWait | None:
    """Nothing could be read yet: the shortest exposure, again and again until the sky is there."""
    if guess is not None:
        opens = sky_window(guess, wish.level_adu, wish.shortest_s, wish.longest_s).opens_s
        # What each sees may have been reckoned by another light than the sky's: be there a little before.
        if now_s < opens - LOOK_AGAIN_S:
            why = "too dim still" if dawn else "too bright still"
            return _wait(wish, opens - LOOK_AGAIN_S - now_s, f"{why}, as the other filters tell")
    elif wish.opens_s is not None and not own and now_s < wish.opens_s - LOOK_BEFORE_S:
        why = "too dim still" if dawn else "too bright still"
        return _wait(wish, wish.opens_s - LOOK_BEFORE_S - now_s, f"{why}, by the sun", LONGEST_WAIT_BY_SUN_S)
    if not own and guess is not None:
        by_guess = guess.exposure_for(wish.level_adu, now_s)
        if by_guess is not None and wish.shortest_s <= by_guess <= wish.longest_s:
            return SkyShoot(wish.code, by_guess, test=True)
    if not own:
        return SkyShoot(wish.code, wish.shortest_s if not dawn else wish.longest_s, test=True)
    last = own[-1]
    too_bright = last.signal_adu >= READ_TO * wish.full_adu
    if too_bright and last.exposure_s > wish.shortest_s * 1.01:
        return SkyShoot(wish.code, max(last.exposure_s / 8.0, wish.shortest_s), test=True)
    if not too_bright and last.exposure_s < wish.longest_s * 0.99:
        return SkyShoot(wish.code, min(last.exposure_s * 8.0, wish.longest_s), test=True)
    if too_bright is dawn:
        return None
    # The longer it was looked for, the longer the next wait; never so long that a window could pass.
    ago, wait = now_s - last.began_s, min(LOOK_AGAIN_S * 1.3 ** (len(own) - 1), 3.0 * LOOK_AGAIN_S)
    if ago < wait:
        return _wait(wish, wait - ago, "the sky is not there yet")
    return SkyShoot(wish.code, last.exposure_s, test=True)


def _expose(wish: SkySeries, fade: Fade, now_s: float, *, dawn: bool) -> SkyShoot | SkyWait | None:
    """The exposure for this moment; a wait where it is not permitted yet; None where it never will be any more."""
    exposure = fade.exposure_for(wish.level_adu, now_s)
    if exposure is not None and wish.shortest_s * 0.999 <= exposure <= wish.longest_s * 1.001:
        return SkyShoot(wish.code, exposure, test=False)
    too_bright = exposure is not None and exposure < wish.shortest_s
    if too_bright is dawn:
        return None
    window = sky_window(fade, wish.level_adu, wish.shortest_s, wish.longest_s)
    return _wait(wish, window.opens_s - now_s, "too bright still" if too_bright else "too dim still")
