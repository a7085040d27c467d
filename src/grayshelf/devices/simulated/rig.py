"""A simulated rig: devices behind the ports, and a world in which a person puts on the cap."""

from __future__ import annotations

import json
import math
import threading
from dataclasses import asdict, dataclass, field
from datetime import datetime
from pathlib import Path

import numpy as np

from grayshelf.clock import Clock
from grayshelf.core.errors import DeviceError
from grayshelf.devices.ports import CameraFacts, CoolerState, Exposed, RigDevices
from grayshelf.devices.simulated.camera_model import Conditions, SensorModel, binned, expose
from grayshelf.devices.simulated.train_model import Map, PanelModel, TrainModel, TwilightModel, flat_field

#: How fast the cooler closes on its set point, in seconds.
COOLER_TIME_CONSTANT_S = 70.0
#: The furthest below the air that the cooler can hold.
COOLER_REACH_C = 34.0


@dataclass(frozen=True)
class RigModel:
    """Everything true of a simulated rig."""

    sensor: SensorModel
    train: TrainModel
    panel: PanelModel
    filters: tuple[str, ...]
    panel_through: dict[str, float]
    """Share of the panel's light that each filter passes."""
    sky_e_s: dict[str, float]
    """Sky background through each filter on a moonless night, electrons a second."""
    air_c: float = 3.6
    twilight: TwilightModel | None = None


@dataclass
class WorldState:
    """What is where at the telescope. Kept in a file, so that it outlives the server as a real rig would."""

    capped: bool = False
    panel_in_place: bool = False
    brightness: int = 0
    diffuser_stops: float = 0.0
    room_light_e_s: float = 0.0
    wheel: int = 0
    focus: float = 12_000.0
    angle_deg: float = 0.0
    sensor_c: float = -10.0
    set_point_c: float | None = -10.0
    sensor_at: str = ""
    frames_taken: int = 0
    faults: list[str] = field(default_factory=list)
    lit_within: list[float] | None = None
    """Of the next exposure: after so many seconds the panel is lit, for so many."""


class SimulatedWorld:
    """The state of a simulated rig, and what falls on its sensor."""

    def __init__(
        self, model: RigModel, clock: Clock, path: Path | None = None, start: WorldState | None = None
    ) -> None:
        self.model = model
        self.clock = clock
        self._path = path
        self._lock = threading.RLock()
        self.state = start or WorldState()
        if path is not None and path.exists():
            self.state = WorldState(**json.loads(path.read_text()))

    def change(self, **values: object) -> None:
        """Change the state and keep it."""
        with self._lock:
            for name, value in values.items():
                setattr(self.state, name, value)
            if self._path is not None:
                part = self._path.with_suffix(".part")
                part.write_text(json.dumps(asdict(self.state)))
                part.replace(self._path)

    def sensor_temperature(self) -> float:
        """Where the sensor is now."""
        s = self.state
        if not self.model.sensor.cooled:
            return self.model.air_c + 6.0
        if s.set_point_c is None:
            goal = self.model.air_c
        else:
            goal = max(s.set_point_c, self.model.air_c - COOLER_REACH_C)
        if "cooler gives up" in s.faults:
            goal = self.model.air_c
        if not s.sensor_at:
            return s.sensor_c
        seconds = (self.clock.now() - datetime.fromisoformat(s.sensor_at)).total_seconds()
        return goal + (s.sensor_c - goal) * math.exp(-max(seconds, 0.0) / COOLER_TIME_CONSTANT_S)

    def light_e_s(self, exposure_s: float, began: datetime | None = None) -> Map | float:
        """Light on the sensor in an exposure, electrons a second in each pixel; `began` None means now."""
        s, model = self.state, self.model
        if s.capped:
            return s.room_light_e_s
        code = model.filters[s.wheel]
        sensor = model.sensor
        field = flat_field(
            model.train, sensor.width, sensor.height, code, round(s.angle_deg, 1), round(s.focus / 50) * 50
        )
        level = model.sky_e_s.get(code, 1.0)
        if model.twilight is not None:
            through = (model.twilight.through or model.panel_through).get(code, 0.0)
            level += model.twilight.mean_e_s(began or self.clock.now(), exposure_s) * through
        if s.panel_in_place:
            level = model.panel.output(s.brightness) * model.panel_through[code] * 2.0**-s.diffuser_stops
        light = field * np.float32(level)
        if s.panel_in_place and level > 0:
            lit_s = exposure_s if s.lit_within is None else s.lit_within[1]
            ripple = model.panel.banding(lit_s) / 2.0
            rows = np.sin(np.arange(sensor.height, dtype=np.float32) * np.float32(0.05))
            light = light * (1.0 + np.float32(ripple) * rows)[:, None]
        return light


class SimulatedCamera:
    """A camera port on the world."""

    def __init__(self, world: SimulatedWorld) -> None:
        self._world = world
        sensor = world.model.sensor
        self.facts = CameraFacts(
            sensor.name,
            sensor.width,
            sensor.height,
            sensor.pixel_um,
            sensor.white_adu,
            sensor.bayer_pattern,
            sensor.cooled,
            sensor.download_s,
            sensor.gain_range,
            sensor.offset_range,
            sensor.shortest_s,
            sensor.unrepeatable_below_s,
            sensor.shutter,
            sensor.most_binning,
        )

    def expose(
        self,
        exposure_s: float,
        gain: float,
        offset: float,
        binning: int,
        cancel: threading.Event | None = None,
        *,
        shutter_open: bool = True,
    ) -> Exposed:
        """Take one frame; what shuts out the light is the cap, whatever its own shutter does."""
        world = self._world
        if "camera gone" in world.state.faults:
            raise DeviceError(
                f"{self.facts.name} does not answer, so no frame was taken.",
                "Check its cable and power, then go on.",
            )
        if not 1 <= binning <= self.facts.most_binning:
            raise DeviceError(f"{self.facts.name} does not bin {binning} × {binning}.", "Use binning 1.")
        began = world.clock.now()
        world.clock.sleep(exposure_s + self.facts.download_s, cancel)
        number = world.state.frames_taken + 1
        world.change(frames_taken=number)
        temp = world.sensor_temperature() + 0.04 * math.sin(number)
        within = world.state.lit_within if world.state.panel_in_place and not world.state.capped else None
        lit = None if within is None else (within[0], within[1])
        conditions = Conditions(exposure_s, gain, offset, temp, began.date(), lit=lit)
        rng = np.random.default_rng([world.model.sensor.seed, 1000, number])
        pixels = binned(
            expose(world.model.sensor, world.light_e_s(exposure_s, began), conditions, rng), binning
        )
        world.change(lit_within=None)
        return Exposed(pixels, began, round(temp, 2), round(world.model.sensor.e_per_adu(gain), 4))

    def cooler(self) -> CoolerState:
        """The cooler's state."""
        temp = self._world.sensor_temperature()
        power = 100.0 * (self._world.model.air_c - temp) / COOLER_REACH_C
        set_point = self._world.state.set_point_c if self.facts.cooled else None
        return CoolerState(round(temp, 2), set_point, min(max(power, 0.0), 100.0))

    def set_temperature(self, set_point_c: float) -> None:
        """Give the cooler a set point."""
        if not self.facts.cooled:
            raise DeviceError(f"{self.facts.name} has no cooler.", "Shoot its darks right after the lights.")
        self._aim_at(set_point_c)

    def cooler_off(self) -> None:
        """Let the sensor be as warm as it will."""
        self._aim_at(None)

    def _aim_at(self, set_point_c: float | None) -> None:
        world = self._world
        world.change(
            sensor_c=world.sensor_temperature(),
            sensor_at=world.clock.now().isoformat(),
            set_point_c=set_point_c,
        )


class SimulatedWheel:
    """A filter wheel on the world."""

    def __init__(self, world: SimulatedWorld) -> None:
        self._world = world
        self.filters = world.model.filters

    def position(self) -> int:
        """Index of the filter that is in."""
        return self._world.state.wheel

    def move(self, index: int) -> None:
        """Bring another filter in."""
        if "wheel stuck" in self._world.state.faults:
            raise DeviceError(
                "The filter wheel did not turn. Flats shot now would be of the wrong filter, so none are shot.",
                "Free the wheel, then go on.",
            )
        if index != self.position():
            self._world.clock.sleep(2.0 + abs(index - self.position()))
            self._world.change(wheel=index)


class SimulatedPanel:
    """A panel on the world."""

    lowest = 18
    highest = 255
    can_be_timed = True

    def __init__(self, world: SimulatedWorld) -> None:
        self._world = world

    def brightness(self) -> int:
        """Brightness now."""
        return self._world.state.brightness

    def set_brightness(self, value: int) -> None:
        """Set the brightness; 0 is dark."""
        if not 0 <= value <= self.highest:
            raise DeviceError(f"The panel goes from 0 to {self.highest}, not to {value}.")
        self._world.change(brightness=value)

    def light_within(self, before_s: float, lit_s: float) -> None:
        """Be lit in the next exposure alone."""
        self._world.change(lit_within=[before_s, lit_s])


class SimulatedPositioner:
    """A focuser or a rotator on the world."""

    def __init__(self, world: SimulatedWorld, what: str, seconds_per_unit: float) -> None:
        self._world, self._what, self._pace = world, what, seconds_per_unit

    def position(self) -> float:
        """Where it is."""
        return float(getattr(self._world.state, self._what))

    def move(self, to: float) -> None:
        """Move there."""
        away = abs(to - self.position())
        if away > 1e-6:
            self._world.clock.sleep(min(1.0 + away * self._pace, 60.0))
            self._world.change(**{self._what: to})


class SimulatedHands:
    """The person at the simulated telescope, who does what is asked at a gate."""

    def __init__(self, world: SimulatedWorld) -> None:
        self._world = world

    def did(self, gate: str) -> None:
        """It is done."""
        if gate == "panel":
            self._world.change(panel_in_place=True, capped=False, diffuser_stops=0.0)
        elif gate == "sky":
            self._world.change(panel_in_place=False, capped=False, diffuser_stops=0.0)
        elif gate == "cap":
            self._world.change(capped=True)
        elif gate == "uncap":
            self._world.change(capped=False)

    def hung(self, stops: float) -> None:
        """One more diffuser hangs before the panel."""
        self._world.change(diffuser_stops=self._world.state.diffuser_stops + stops)


def devices_of(
    world: SimulatedWorld,
    *,
    wheel: bool = True,
    panel: bool = True,
    rotator: bool = True,
    focuser: bool = True,
) -> RigDevices:
    """The ports of a simulated rig; leave out what this rig does not have."""
    return RigDevices(
        camera=SimulatedCamera(world),
        wheel=SimulatedWheel(world) if wheel else None,
        panel=SimulatedPanel(world) if panel else None,
        rotator=SimulatedPositioner(world, "angle_deg", 0.2) if rotator else None,
        focuser=SimulatedPositioner(world, "focus", 0.002) if focuser else None,
        hands=SimulatedHands(world),
    )
