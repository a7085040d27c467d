"""What the simulated camera is and how warm it is, as properties of the standard's cameras (ICameraV3)."""

from __future__ import annotations

from grayshelf.devices.simulated.rig import SimulatedCamera, SimulatedWorld
from grayshelf.served_rig.device import Device, Faults, Form, invalid, not_implemented

LONGEST_S = 3600.0
#: How the pattern RGGB is shifted.
_SHIFT = {"RGGB": (0, 0), "GRBG": (1, 0), "GBRG": (0, 1), "BGGR": (1, 1)}


class CameraSays(Device):
    """A camera, without its exposures."""

    kind, interface = "camera", 3

    def __init__(self, name: str, world: SimulatedWorld, faults: Faults) -> None:
        super().__init__(name, f"{name}, a simulated camera", faults)
        self._world, self._camera = world, SimulatedCamera(world)
        self._facts = self._camera.facts
        self._goal_c = world.state.set_point_c if world.state.set_point_c is not None else 0.0

    # -- what it is -------------------------------------------------------------------------------------------------

    def get_cameraxsize(self) -> int:
        """Pixels along x."""
        return self._facts.width

    def get_cameraysize(self) -> int:
        """Pixels along y."""
        return self._facts.height

    def get_pixelsizex(self) -> float:
        """Size of a pixel, in µm."""
        return self._facts.pixel_um

    get_pixelsizey = get_pixelsizex

    def get_maxadu(self) -> int:
        """The highest level."""
        return self._facts.white_adu

    def get_sensorname(self) -> str:
        """The sensor's name."""
        return self._facts.name

    def get_sensortype(self) -> int:
        """0: monochrome; 2: RGGB."""
        return 0 if self._facts.bayer_pattern is None else 2

    def get_bayeroffsetx(self) -> int:
        """By how much the pattern is shifted along x."""
        return self._shift()[0]

    def get_bayeroffsety(self) -> int:
        """By how much the pattern is shifted along y."""
        return self._shift()[1]

    def _shift(self) -> tuple[int, int]:
        if self._facts.bayer_pattern is None:
            raise not_implemented("BayerOffset")
        return _SHIFT[self._facts.bayer_pattern]

    def get_exposuremin(self) -> float:
        """The shortest exposure, in seconds."""
        return self._facts.shortest_s

    def get_exposuremax(self) -> float:
        """The longest exposure, in seconds."""
        return LONGEST_S

    def get_exposureresolution(self) -> float:
        """Any exposure can be set."""
        return 0.0

    def get_maxbinx(self) -> int:
        """The most binning."""
        return self._facts.most_binning

    get_maxbiny = get_maxbinx

    def get_fullwellcapacity(self) -> float:
        """In electrons."""
        return self._world.model.sensor.full_well_e

    def get_hasshutter(self) -> bool:
        """What shuts out the light is the cap."""
        return False

    def get_canabortexposure(self) -> bool:
        """It can."""
        return True

    def get_canasymmetricbin(self) -> bool:
        """It cannot."""
        return False

    get_canstopexposure = get_canfastreadout = get_canpulseguide = get_canasymmetricbin
    get_ispulseguiding = get_canasymmetricbin

    def get_cangetcoolerpower(self) -> bool:
        """Where it has a cooler."""
        return self._facts.cooled

    get_cansetccdtemperature = get_cangetcoolerpower

    def get_readoutmodes(self) -> list[str]:
        """There is one."""
        return ["Normal"]

    def get_readoutmode(self) -> int:
        """The one there is."""
        return 0

    def put_readoutmode(self, form: Form) -> None:
        """The one there is."""
        if form.whole("ReadoutMode") != 0:
            raise invalid("There is no such readout mode.")

    def get_fastreadout(self) -> bool:
        """There is none."""
        raise not_implemented("FastReadout")

    get_gains = get_offsets = get_subexposureduration = get_fastreadout

    # -- the cooler -------------------------------------------------------------------------------------------------

    def get_ccdtemperature(self) -> float:
        """Of the sensor, in °C."""
        return self._camera.cooler().sensor_c or 0.0

    def get_heatsinktemperature(self) -> float:
        """Of the air, in °C."""
        return self._world.model.air_c

    def get_setccdtemperature(self) -> float:
        """The set point, in °C."""
        self._need_cooler("SetCCDTemperature")
        return self._goal_c

    def put_setccdtemperature(self, form: Form) -> None:
        """Set it; it counts once the cooler is on."""
        self._need_cooler("SetCCDTemperature")
        goal = form.number("SetCCDTemperature")
        if not -60.0 <= goal <= 60.0:
            raise invalid(f"{goal:g} °C cannot be a set point.")
        self._goal_c = goal
        if self._world.state.set_point_c is not None:
            self._camera.set_temperature(goal)

    def get_cooleron(self) -> bool:
        """Whether it cools."""
        self._need_cooler("CoolerOn")
        return self._world.state.set_point_c is not None

    def put_cooleron(self, form: Form) -> None:
        """Switch it."""
        self._need_cooler("CoolerOn")
        if form.truth("CoolerOn"):
            self._camera.set_temperature(self._goal_c)
        else:
            self._camera.cooler_off()

    def get_coolerpower(self) -> float:
        """In percent."""
        self._need_cooler("CoolerPower")
        return self._camera.cooler().power_percent

    def _need_cooler(self, what: str) -> None:
        if not self._facts.cooled:
            raise not_implemented(what)
