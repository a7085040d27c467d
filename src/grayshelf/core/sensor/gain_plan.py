"""Which pairs of flats to take for a transfer curve: from near the pedestal to past saturation, at one brightness.

For linearity the time varies and the light does not. A pure function of the pairs so far, so that a measurement
that was cut short goes on from them.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from grayshelf.core.flats.search.dial import dial
from grayshelf.core.sensor.pairs import PairReading

#: Shares of saturation, evenly spaced in the logarithm up to the slope's end, then closer where the pixel fills.
SLOPE_SHARES = (0.05, 0.075, 0.11, 0.16, 0.24, 0.35, 0.5, 0.66)
EDGE_SHARES = (0.8, 0.88, 0.93, 0.96, 0.98, 1.0, 1.03)
#: The first pair, as a share of the converter's range: some pixels are full at a third of it.
FIRST_SHARE = 0.2
#: Past saturation by so much, so that even the weakest pixel is full.
PAST = 1.3
#: The light should fill a pixel in so many times the shortest permitted exposure ...
FILLS_IN = 20.0
#: ... up to so many: longer ones only take longer.
FILLS_WITHIN = 45.0
BIAS_FRAMES = 16
#: Brightness of the second, dimmer source for the levels near the pedestal, as a share of the first's.
DIMMER = 0.3
#: Shares of the time that fills a pixel, at the dimmer source.
DIM_SHARES = (0.05, 0.1, 0.2)


@dataclass(frozen=True)
class ShootPair:
    """Take two equal flats."""

    exposure_s: float
    dim: bool
    """At the dimmer brightness."""
    why: str


def plan_pairs(
    seen: Mapping[str, Sequence[PairReading]],
    rate_adu_s: float,
    pedestal_adu: float,
    white_adu: float,
    shortest_s: float,
    *,
    has_dimmer: bool,
    main: str,
    dim: str,
) -> list[ShootPair]:
    """What is still to be taken, in order.

    Parameters
    ----------
    seen
        Pairs so far by channel.
    rate_adu_s
        Of the brightest channel at the main brightness, from the search.
    main, dim
        Names of the two sources in the pairs.
    """
    first = next(iter(seen.values()), ())
    done = {(p.source, round(p.exposure_s, 4)) for p in first}
    fills = (white_adu - pedestal_adu) / rate_adu_s
    past = _past(seen, rate_adu_s, pedestal_adu, fills, main)
    wanted: list[ShootPair] = []
    wanted.append(
        ShootPair(
            _time(FIRST_SHARE * fills, shortest_s), False, "first: which part of the frame is lit alike"
        )
    )
    wanted.append(ShootPair(_time(past, shortest_s), False, "past saturation: where the level stays"))
    if (main, wanted[0].exposure_s) in done and (main, wanted[1].exposure_s) in done:
        for share, when in _by_channel(seen, pedestal_adu, main, past):
            wanted.append(ShootPair(_time(when, shortest_s), False, f"{100 * share:.0f} % of saturation"))
        if has_dimmer:
            wanted += [
                ShootPair(_time(share * fills, shortest_s), True, "near the pedestal, at a dimmer light")
                for share in DIM_SHARES
            ]
    result: list[ShootPair] = []
    for pair in wanted:
        key = (dim if pair.dim else main, round(pair.exposure_s, 4))
        if key not in done:
            done.add(key)
            result.append(pair)
    return result


def _time(exposure_s: float, shortest_s: float) -> float:
    return max(dial(exposure_s, 0.004), shortest_s)


def _rates(seen: Mapping[str, Sequence[PairReading]], pedestal: float, main: str) -> dict[str, float]:
    """Rate of each channel, from its brightest pair at the main light that is not full."""
    rates = {}
    for channel, pairs in seen.items():
        clear = [p for p in pairs if p.source == main and p.full_share < 0.001 and p.exposure_s > 0]
        if clear:
            # The shortest is surely on the straight part.
            pair = min(clear, key=lambda p: p.exposure_s)
            rates[channel] = max(pair.mean_adu - pedestal, 1.0) / pair.exposure_s
    return rates


def _past(
    seen: Mapping[str, Sequence[PairReading]], rate: float, pedestal: float, fills: float, main: str
) -> float:
    """The time that fills the weakest channel, and more."""
    first = {c: [p for p in pairs if p.source == main][:1] for c, pairs in seen.items()}
    rates = [max(p[0].mean_adu - pedestal, 1.0) / p[0].exposure_s for p in first.values() if p]
    return PAST * fills * max(rate / min(rates), 1.0) if rates else PAST * fills


def _by_channel(
    seen: Mapping[str, Sequence[PairReading]], pedestal: float, main: str, past: float
) -> list[tuple[float, float]]:
    """(share of saturation, time): the slope's levels for the brightest channel, the edge for each."""
    rates = _rates(seen, pedestal, main)
    if not rates:
        return []
    plateau = {c: max(p.mean_adu for p in seen[c] if p.source == main) - pedestal for c in rates}
    brightest = max(rates, key=lambda c: rates[c])
    times = [(share, share * plateau[brightest] / rates[brightest]) for share in SLOPE_SHARES]
    for channel in sorted(rates, key=lambda c: -rates[c]):
        for share in EDGE_SHARES:
            when = share * plateau[channel] / rates[channel]
            # Channels that fill at nearly the same time share a pair.
            if all(abs(when / other - 1.0) > 0.008 for _, other in times) and when < past:
                times.append((share, when))
    return times


def dimmed(brightness: int, stops: float, lowest: int, highest: int) -> int:
    """A brightness about so many stops dimmer (brighter where negative); panels are steeper than straight."""
    span = max(brightness - lowest + 6, 1) * 2.0 ** (-stops / 1.5)
    return int(min(max(round(lowest - 6 + span), lowest), highest))


def seconds_for_gain(shortest_s: float, download_s: float, n_channels: int) -> float:
    """About how long one gain takes, in seconds: bias frames, a search, the pairs."""
    fills = FILLS_IN * 1.5 * shortest_s
    edge = EDGE_SHARES * (2 if n_channels > 1 else 1)
    exposures = 2 * fills * (sum(SLOPE_SHARES) + sum(edge) + PAST + sum(DIM_SHARES))
    frames = BIAS_FRAMES + 4 + 2 * (len(SLOPE_SHARES) + len(edge) + 2 + len(DIM_SHARES))
    return exposures + frames * download_s
