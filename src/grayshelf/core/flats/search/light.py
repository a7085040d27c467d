"""The light of one filter, fitted to its test shots: ``level = p + R · f(brightness) · (t + t₀)``, clipped at white.

All shots are fitted together, each weighed by how far its level and its brightness lie from where the answer is
looked for: no sensor is quite straight, and no panel quite as assumed. The fit says how sure it is of any level, and so
whether another shot is needed.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from grayshelf.core.flats.model import FlatTarget, Pedestal, TestShot
from grayshelf.core.flats.panel.response import PanelResponse

if TYPE_CHECKING:
    from scipy.optimize import OptimizeResult

#: What is taken of a pedestal that nobody knows.
UNKNOWN_PEDESTAL = Pedestal(700.0, 1200.0, "a guess")
#: A level of a large frame repeats to this share of its light, and to this many ADU.
LEVEL_ERROR, LEVEL_ERROR_ADU = 0.003, 4.0
#: Sensors and shutters leave the straight line by so much in each e-fold of light.
BEND = 0.02
#: And by so much more where the brightest pixels are beyond the linear limit.
BENT = 0.02
#: A shot so many standard errors off the fit says that the panel follows another curve: then its other brightness
#: values tell of this one only to so much (natural log).
ASTRAY, UNLIKE, FREE = 2.5, 1.0, 20.0
#: No two brightness values lie nearer on a curve than this (natural log).
LEAST_SHAPE = 1e-4
#: Two brightness values of a panel that was not measured may differ by so much (natural log) from any curve.
STEP = 0.1
#: Dead time of an exposure, in seconds, and its spread over cameras.
DEAD_TIME_S, DEAD_TIME_SPREAD_S = 0.001, 0.0007


@dataclass(frozen=True)
class LightModel:
    """What the shots say of the light, with its uncertainty."""

    pedestal_adu: float
    log_rate: float
    """Of the light at the highest brightness (or the only one), in ADU a second."""
    dead_time_s: float
    slope: float
    """Exponent by which the panel's output differs from its response as known."""
    response: PanelResponse | None
    covariance: NDArray[np.float64]

    def _log_output(self, brightness: int | None) -> float:
        if self.response is None or brightness is None:
            return 0.0
        return self.response.log_output(brightness)

    def rate(self, brightness: int | None) -> float:
        """ADU a second above the pedestal."""
        return math.exp(self.log_rate + self.slope * self._log_output(brightness))

    def signal(self, exposure_s: float, brightness: int | None) -> float:
        """Light in a frame, in ADU above the pedestal."""
        return self.rate(brightness) * (exposure_s + self.dead_time_s)

    def level(self, exposure_s: float, brightness: int | None) -> float:
        """Level of a frame, in ADU; not clipped."""
        return self.pedestal_adu + self.signal(exposure_s, brightness)

    def exposure_for(self, level_adu: float, brightness: int | None) -> float:
        """The exposure that gives a level, not rounded."""
        signal = max(level_adu - self.pedestal_adu, 1.0)
        return max(signal / self.rate(brightness) - self.dead_time_s, 1e-6)

    def brightness_for(self, level_adu: float, exposure_s: float) -> float:
        """The brightness that gives a level, not rounded; the ends of the range where it is beyond."""
        assert self.response is not None
        rate = max(level_adu - self.pedestal_adu, 1.0) / (exposure_s + self.dead_time_s)
        return self.response.brightness_for((math.log(rate) - self.log_rate) / self.slope)

    def error(self, exposure_s: float, brightness: int | None) -> float:
        """Standard error of a level, in ADU."""
        signal = self.signal(exposure_s, brightness)
        rate = signal / (exposure_s + self.dead_time_s)
        gradient = np.array([1.0, signal, rate, signal * self._log_output(brightness)])
        return float(math.sqrt(max(gradient @ self.covariance @ gradient, 0.0)))

    def ratio_error(self, exposure_s: float, brightness: int | None, target_adu: float) -> float:
        """Standard error of the log of (light at a setting) over (light wanted)."""
        gradient = np.array(
            [
                1.0 / max(target_adu - self.pedestal_adu, 1.0),
                1.0,
                1.0 / (exposure_s + self.dead_time_s),
                self._log_output(brightness),
            ]
        )
        return float(math.sqrt(max(gradient @ self.covariance @ gradient, 0.0)))


def is_full(shot: TestShot, white_adu: float) -> bool:
    """Whether a shot is too bright to be read: its level is at 97 % of white (ADU), or a fifth of its pixels are full."""
    return shot.level_adu >= 0.97 * white_adu or shot.saturated_fraction > 0.2


def readable(shot: TestShot, pedestal: Pedestal | None, target: FlatTarget) -> bool:
    """Whether the light can be read from a shot: it is neither full nor lost in what the pedestal may be."""
    if is_full(shot, target.white_adu):
        return False
    if pedestal is None:
        return shot.level_adu > max(0.025 * target.white_adu, 3.0 * shot.noise_adu)
    clear = max(3.0 * pedestal.uncertainty_adu, 0.5 * shot.noise_adu, 60.0)
    return shot.level_adu - pedestal.adu > clear


def pedestal_belief(pedestal: Pedestal | None, shots: Sequence[TestShot]) -> Pedestal:
    """What to take of the pedestal, ADU: what is known, else a wide guess below the darkest frame seen."""
    if pedestal is not None:
        return pedestal
    lowest = min((s.level_adu for s in shots), default=UNKNOWN_PEDESTAL.adu * 10)
    if lowest >= UNKNOWN_PEDESTAL.adu + UNKNOWN_PEDESTAL.uncertainty_adu:
        return UNKNOWN_PEDESTAL
    half = max(lowest, 2.0) / 2.0
    return Pedestal(half, half, UNKNOWN_PEDESTAL.known_from)


def fit_light(
    shots: Sequence[TestShot],
    target: FlatTarget,
    pedestal: Pedestal | None,
    response: PanelResponse | None,
    at_brightness: float | None = None,
) -> LightModel | None:
    """Fit the light to what can be read; None where nothing can.

    Parameters
    ----------
    at_brightness
        Where the answer is looked for: shots at other brightness values count the less, the further they are.
    """
    straight = [s for s in shots if readable(s, pedestal, target)]
    if not straight:
        return None
    belief = pedestal_belief(pedestal, shots)
    nearest = min(straight, key=lambda s: abs(s.level_adu - target.level_adu))
    centre = at_brightness if at_brightness is not None else nearest.brightness
    times = np.array([s.exposure_s for s in straight])
    levels = np.array([s.level_adu for s in straight])
    outputs = np.array([0.0] * len(straight))
    # What a brightness gives apart from the curve is the same in all its shots: those of one tell of the pedestal
    # and of the time, however far it is from the answer.
    others = sorted(
        {s.brightness for s in straight if response is not None and s.brightness != centre}, key=str
    )
    own = np.array([others.index(s.brightness) if s.brightness in others else -1 for s in straight])
    shape = np.zeros(len(others))
    if response is not None:
        outputs = np.array([response.log_output(s.brightness or 0) for s in straight])
        middle = response.log_output(centre or 0)
        apart = np.array([abs(response.log_output(b or 0) - middle) for b in others])
        shape = np.maximum(response.spread(centre or 0) * apart, LEAST_SHAPE)
        if pedestal is None and not response.measured:
            # A step of the panel would pass for pedestal, and the other way round.
            shape = np.hypot(shape, STEP)
    signals = np.maximum(levels - belief.adu, 1.0)
    wanted = max(target.level_adu - belief.adu, 1.0)
    bend = BEND * np.abs(np.log(signals / wanted))
    beyond = np.array([s.brightest_adu > target.brightest_limit_adu for s in straight])
    bend = np.where(beyond, bend + BENT, bend)
    sigma = np.sqrt((LEVEL_ERROR * signals) ** 2 + LEVEL_ERROR_ADU**2 + (bend * signals) ** 2)
    slope_prior = 0.35 if response is not None and not response.measured else 0.02

    def residuals(x: NDArray[np.float64]) -> NDArray[np.float64]:
        p, a, t0, slope = x[:4]
        # The brightness of the answer is on its curve: index −1 is the nought at the end.
        apart_from_it = np.append(x[4:], 0.0)[own]
        model = p + np.exp(np.clip(a + slope * outputs + apart_from_it, -40.0, 40.0)) * (times + t0)
        beliefs = [
            (p - belief.adu) / belief.uncertainty_adu,
            (t0 - DEAD_TIME_S) / DEAD_TIME_SPREAD_S,
            (slope - 1.0) / slope_prior,
        ]
        return np.concatenate([(model - levels) / sigma, beliefs, x[4:] / shape])

    first = math.log(max(nearest.level_adu - belief.adu, 1.0) / nearest.exposure_s)
    if response is not None:
        first -= response.log_output(nearest.brightness or 0)
    ceiling = max(float(levels.min()), belief.adu + 1.0)

    def solved() -> OptimizeResult:
        # Loaded when it is needed: it takes as long as the rest of a start.
        from scipy.optimize import least_squares

        return least_squares(
            residuals,
            [min(max(belief.adu, 0.0), ceiling - 0.5), first, DEAD_TIME_S, 1.0, *np.zeros(len(others))],
            bounds=(
                [-50.0, -60.0, 0.0, 0.3, *np.full(len(others), -30.0)],
                [ceiling, 60.0, 0.02, 3.0, *np.full(len(others), 30.0)],
            ),
            x_scale=[100.0, 0.1, 0.001, 0.1, *np.full(len(others), 0.1)],
        )

    solution = solved()
    if (
        others
        and max(np.abs(solution.fun[: len(straight)]).max(), np.abs(solution.x[4:] / shape).max()) > ASTRAY
    ):
        # No such panel was thought of: what was seen at other brightness values says little of the light at this one,
        # and nothing where this one was seen itself.
        shape = np.full(len(others), UNLIKE if (own >= 0).all() else FREE)
        solution = solved()
    covariance = np.linalg.pinv(solution.jac.T @ solution.jac)[:4, :4]
    p, a, t0, slope = (float(v) for v in solution.x[:4])
    return LightModel(p, a, t0, slope, response, covariance)
