"""The simulated mount, safety monitor, weather station and power ports as devices of the standard."""

from __future__ import annotations

from grayshelf.devices.simulated.rig import SimulatedWorld
from grayshelf.served_rig.device import Device, Faults, Form, Moving, Refusal, invalid, not_implemented

#: Where a panel hangs on the wall of the simulated site: altitude and azimuth, in degrees; it is faced within so much.
WALL_PANEL, FACED_WITHIN_DEG = (4.0, 185.0), 2.0
#: A slew takes so long, in seconds.
SLEW_S = 20.0
PARKED = (0.0, 0.0)


class ServedMount(Device):
    """A mount (ITelescopeV3) that slews by altitude and azimuth."""

    kind, interface = "telescope", 3

    def __init__(self, name: str, world: SimulatedWorld, faults: Faults) -> None:
        super().__init__(name, f"{name}, a simulated mount", faults)
        self._world, self._moving = world, Moving()
        self._at, self._parked, self._tracking = (60.0, 120.0), False, True

    def get_altitude(self) -> float:
        """Where it points, in degrees."""
        return self._at[0]

    def get_azimuth(self) -> float:
        """Where it points, in degrees from north through east."""
        return self._at[1]

    def get_slewing(self) -> bool:
        """Whether it moves."""
        return self._moving.goes_on

    def get_tracking(self) -> bool:
        """Whether it follows the stars."""
        return self._tracking

    def put_tracking(self, form: Form) -> None:
        """Follow the stars, or stand."""
        if form.truth("Tracking") and self._parked:
            raise Refusal(0x408, "It is parked.")
        self._tracking = form.truth("Tracking")

    def get_cansettracking(self) -> bool:
        """It can."""
        return True

    get_canslewaltazasync = get_canslewaltaz = get_canpark = get_canunpark = get_canfindhome = (
        get_cansettracking
    )

    def get_canslewasync(self) -> bool:
        """It is sent by altitude alone."""
        return False

    get_canslew = get_cansync = get_cansyncaltaz = get_canpulseguide = get_cansetpark = get_canslewasync

    def get_atpark(self) -> bool:
        """Whether it is parked."""
        return self._parked

    def get_athome(self) -> bool:
        """Whether it is at home, which is where it parks."""
        return self._at == PARKED and not self._parked

    def put_slewtoaltazasync(self, form: Form) -> None:
        """Go somewhere; it goes on while the mount answers."""
        altitude, azimuth = form.number("Altitude"), form.number("Azimuth")
        if not -90 <= altitude <= 90 or not 0 <= azimuth < 360:
            raise invalid("There is no such place.")
        if self._parked:
            raise Refusal(0x408, "It is parked.")
        if self._tracking:
            raise Refusal(0x40B, "It follows the stars: switch that off first.")
        self._moving.begin(lambda: self._go((altitude, azimuth)))

    def put_abortslew(self, form: Form) -> None:
        """It stops where it is sent: it is quick enough."""

    def put_unpark(self, form: Form) -> None:
        """Leave the parking place."""
        self._parked = False

    def put_park(self, form: Form) -> None:
        """Go to the parking place."""
        self._tracking = False
        self._moving.begin(lambda: self._go(PARKED, parked=True))

    def put_findhome(self, form: Form) -> None:
        """Go home."""
        self._tracking = False
        self._moving.begin(lambda: self._go(PARKED))

    def _go(self, place: tuple[float, float], *, parked: bool = False) -> None:
        self._world.clock.sleep(SLEW_S)
        faces = all(abs(a - b) <= FACED_WITHIN_DEG for a, b in zip(place, WALL_PANEL, strict=True))
        self._world.change(panel_in_place=faces)
        self._at, self._parked = place, parked


class ServedSafety(Device):
    """A safety monitor (ISafetyMonitor)."""

    kind, interface = "safetymonitor", 1

    def __init__(self, name: str, faults: Faults) -> None:
        super().__init__(name, f"{name}, a simulated safety monitor", faults)

    def get_issafe(self) -> bool:
        """Unless it was asked not to be."""
        return "not safe" not in self.faults.now


class ServedWeather(Device):
    """A weather station (IObservingConditions) with two sensors."""

    kind, interface = "observingconditions", 1

    def __init__(self, name: str, world: SimulatedWorld, faults: Faults) -> None:
        super().__init__(name, f"{name}, a simulated weather station", faults)
        self._world = world

    def get_temperature(self) -> float:
        """Of the air, in °C."""
        return self._world.model.air_c

    def get_humidity(self) -> float:
        """In percent."""
        return 81.0

    def get_starfwhm(self) -> float:
        """It has no such sensor."""
        raise not_implemented("This sensor")

    get_cloudcover = get_dewpoint = get_pressure = get_rainrate = get_skybrightness = get_starfwhm
    get_skyquality = get_skytemperature = get_winddirection = get_windgust = get_windspeed = get_starfwhm

    def get_averageperiod(self) -> float:
        """What it says is of this moment."""
        return 0.0

    def put_refresh(self, form: Form) -> None:
        """It is always fresh."""


class ServedSwitch(Device):
    """Power ports (ISwitchV2): a heater that cannot be set from outside, and the panel on the wall."""

    kind, interface = "switch", 2
    ports = ("Heater", "Panel on the wall")

    def __init__(self, name: str, world: SimulatedWorld, faults: Faults) -> None:
        super().__init__(name, f"{name}, simulated power ports", faults)
        self._world = world

    def read(self, what: str, number: int = 0) -> object:
        """A property of a port, or of the switch."""
        of_port = {
            "canwrite": number == 1,
            "getswitchname": self.ports[number] if number in (0, 1) else "",
            "getswitchdescription": self.ports[number] if number in (0, 1) else "",
            "minswitchvalue": 0.0,
            "maxswitchvalue": 255.0 if number == 1 else 1.0,
            "switchstep": 1.0,
            "getswitch": number == 1 and self._world.state.brightness > 0,
            "getswitchvalue": float(self._world.state.brightness) if number == 1 else 0.0,
        }
        if what not in of_port:
            return super().read(what)
        if number not in (0, 1):
            raise invalid(f"There is no port {number}.")
        if not self.is_connected:
            raise Refusal(0x407, f"{self.name} is not connected.")
        return of_port[what]

    def get_maxswitch(self) -> int:
        """How many there are."""
        return len(self.ports)

    def put_setswitchvalue(self, form: Form) -> None:
        """Set a port."""
        if form.whole("Id") != 1:
            raise not_implemented("Setting this port")
        value = form.number("Value")
        if not 0 <= value <= 255:
            raise invalid(f"It goes from 0 to 255, not to {value:g}.")
        self._world.change(brightness=round(value))

    def put_setswitch(self, form: Form) -> None:
        """Switch a port."""
        if form.whole("Id") != 1:
            raise not_implemented("Setting this port")
        self._world.change(brightness=255 if form.truth("State") else 0)
