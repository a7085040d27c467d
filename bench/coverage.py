"""How often the Bench's 95 % intervals cover the truth, on sensors that share no code with the simulated rig."""

from __future__ import annotations

import numpy as np
from tests.other_sensors import other_sensor

from grayshelf.core.sensor.bias import read_bias
from grayshelf.core.sensor.offset import OffsetLadder, read_offsets
from grayshelf.core.sensor.pairs import read_pair, whole_part
from grayshelf.core.sensor.transfer import read_transfer

MAKES = ("heavy", "light", "telegraph")
SEEDS = 60
OFFSETS = (60, 70, 80, 90, 100)
#: Levels of a ladder, as shares of the capacity.
LADDERS = {
    "nine levels": (0.05, 0.1, 0.2, 0.35, 0.5, 0.65, 0.85, 1.05, 1.3),
    "four levels": (0.1, 0.3, 0.6, 1.2),
}


def floor(make: str, per_offset: int) -> tuple[float, float, float]:
    """Share of floors covered, share of margins that hold for one frame in 10,000, and the mean ± in ADU."""
    inside, kept, widths = [], [], []
    for seed in range(SEEDS):
        sensor, rng = other_sensor(make, seed), np.random.default_rng(seed + 900)
        readings = [read_bias(sensor.frame(0, o, rng), o) for o in OFFSETS for _ in range(per_offset)]
        reading = read_offsets(readings, OffsetLadder(0, 200, 1, 65535, sensor.step))
        if reading.tail is None or reading.uncertainty_adu is None:
            continue
        depth = reading.tail.depth(0.99)
        widths.append(reading.uncertainty_adu)
        inside.append(abs(depth - sensor.floor_depth(0.99)) <= reading.uncertainty_adu + sensor.step / 2)
        kept.append(1.0 - np.exp(-sensor.pixels_below(depth - reading.margin_adu)) <= 1e-4)
    return float(np.mean(inside)), float(np.mean(kept)), float(np.mean(widths))


def transfer(make: str, levels: tuple[float, ...]) -> np.ndarray:
    """Shares covered of e⁻/ADU, read noise and saturation capacity."""
    covered = np.zeros(3)
    for seed in range(SEEDS):
        sensor, rng = other_sensor(make, seed, (128, 192)), np.random.default_rng(seed + 5000)
        full = min(sensor.well_e, (sensor.white_adu - sensor.pedestal(40)) * sensor.e_per_adu)
        part = whole_part(sensor.frame(0, 40, rng))
        bias = [read_pair(sensor.frame(0, 40, rng), sensor.frame(0, 40, rng), part) for _ in range(2)]
        pairs = [
            read_pair(
                sensor.frame(share * full, 40, rng),
                sensor.frame(share * full, 40, rng),
                part,
                pedestal_adu=sensor.pedestal(40),
                exposure_s=share,
                source="x",
            )
            for share in levels
        ]
        t = read_transfer(pairs, bias, white_adu=sensor.white_adu, sample_step=sensor.step)
        found = zip(
            (t.e_per_adu, t.read_noise_e, t.capacity_e),
            (sensor.e_per_adu, sensor.read_noise_e, full),
            strict=True,
        )
        covered += [v is not None and abs(v.value - truth) <= v.plus_minus for v, truth in found]
    return covered / SEEDS


def main() -> None:
    print(f"share of {SEEDS} seeds whose stated 95 % interval holds the truth")
    for make in MAKES:
        for per_offset in (2, 5, 20):
            inside, kept, width = floor(make, per_offset)
            print(
                f"  {make:10} floor, {per_offset:2} frames an offset: {inside:.2f} (± {width:.0f} ADU); margin holds in {kept:.2f}"
            )
        for name, levels in LADDERS.items():
            gain, noise, capacity = transfer(make, levels)
            print(f"  {make:10} {name}: e⁻/ADU {gain:.2f}, read noise {noise:.2f}, capacity {capacity:.2f}")
