"""The simulated wheel, panel, rotator and focuser as devices of the standard."""

from __future__ import annotations

from collections.abc import Mapping

from grayshelf.core.errors import GrayShelfError
from grayshelf.devices.simulated.rig import (
    SimulatedPanel,
    SimulatedPositioner,
    SimulatedWheel,
    SimulatedWorld,
)
from grayshelf.served_rig.device import Device, Faults, Form, Moving, invalid, not_implemented

#: States of a light (Alpaca API reference, CalibratorStatus) and of a cover that is not there.
OFF, NOT_READY, READY, NO_COVER = 1, 2, 3, 0
#: How long the light takes until it is steady, in seconds.
STEADY_S = 0.5


class ServedWheel(Device):
    """A filter wheel (IFilterWheelV2)."""

    kind, interface = "filterwheel", 2

    def __init__(self, name: str, world: SimulatedWorld, focus: Mapping[str, int], faults: Faults) -> None:
        super().__init__(name, f"{name}, a simulated wheel", faults)
        self._wheel, self._moving = SimulatedWheel(world), Moving()
        lowest = min(focus.values(), default=0)
        self._focus = [focus.get(code, lowest) - lowest for code in self._wheel.filters]
        self._stuck = False

    def get_names(self) -> list[str]:
        """What sits in it."""
        return list(self._wheel.filters)

    def get_focusoffsets(self) -> list[int]:
        """Steps by which the focus of each differs from the lowest."""
        return self._focus

    def get_position(self) -> int:
        """−1 while it turns."""
        return -1 if self._moving.goes_on or self._stuck else self._wheel.position()

    def put_position(self, form: Form) -> None:
        """Turn it; it goes on while the wheel answers."""
        goal = form.whole("Position")
        if not 0 <= goal < len(self._wheel.filters):
            raise invalid(f"It has places from 0 to {len(self._wheel.filters) - 1}, no {goal}.")
        self._stuck = self.faults.strikes("wheel never arrives")
        if not self._stuck:
            self._moving.begin(lambda: self._turn(goal))

    def _turn(self, goal: int) -> None:
        try:
            self._wheel.move(goal)
        except GrayShelfError:
            self._stuck = True


class ServedPanel(Device):
    """A panel (ICoverCalibratorV1), pushed on by hand: it has no cover that moves."""

    kind, interface = "covercalibrator", 1

    def __init__(self, name: str, world: SimulatedWorld, faults: Faults) -> None:
        super().__init__(name, f"{name}, a simulated panel", faults)
        self._world, self._panel, self._moving = world, SimulatedPanel(world), Moving()

    def get_maxbrightness(self) -> int:
        """The highest brightness."""
        return self._panel.highest

    def get_brightness(self) -> int:
        """Now."""
        told = self._panel.brightness()
        return max(told - 1, 0) if told and "brightness reads back other" in self.faults.now else told

    def get_calibratorstate(self) -> int:
        """Off, or ready, or not yet."""
        if self._moving.goes_on:
            return NOT_READY
        return READY if self._panel.brightness() else OFF

    def get_coverstate(self) -> int:
        """There is none."""
        return NO_COVER

    def get_calibratorchanging(self) -> bool:
        """Whether it is not steady yet."""
        return self._moving.goes_on

    def get_covermoving(self) -> bool:
        """There is none."""
        return False

    def put_calibratoron(self, form: Form) -> None:
        """Light it."""
        value = form.whole("Brightness")
        if not 0 <= value <= self._panel.highest:
            raise invalid(f"It goes from 0 to {self._panel.highest}, not to {value}.")
        self._set(value)

    def put_calibratoroff(self, form: Form) -> None:
        """Let it be dark."""
        self._set(0)

    def _set(self, value: int) -> None:
        self._panel.set_brightness(value)
        self._moving.begin(lambda: self._world.clock.sleep(STEADY_S))

    def put_opencover(self, form: Form) -> None:
        """There is none."""
        raise not_implemented("OpenCover")

    put_closecover = put_haltcover = put_opencover


class ServedRotator(Device):
    """A rotator (IRotatorV3)."""

    kind, interface = "rotator", 3

    def __init__(self, name: str, world: SimulatedWorld, faults: Faults) -> None:
        super().__init__(name, f"{name}, a simulated rotator", faults)
        self._rotator, self._moving = SimulatedPositioner(world, "angle_deg", 0.2), Moving()
        self._sync_deg = 0.0
        self._goal_deg = self._rotator.position() % 360.0

    def get_position(self) -> float:
        """On the sky, in degrees, as it was synchronised."""
        return (self._rotator.position() + self._sync_deg) % 360.0

    def get_mechanicalposition(self) -> float:
        """Of itself, in degrees."""
        return self._rotator.position() % 360.0

    def get_targetposition(self) -> float:
        """Where it is sent, on the sky."""
        return (self._goal_deg + self._sync_deg) % 360.0

    def get_ismoving(self) -> bool:
        """Whether it turns."""
        return self._moving.goes_on

    def get_canreverse(self) -> bool:
        """It cannot."""
        return False

    get_reverse = get_canreverse

    def get_stepsize(self) -> float:
        """In degrees."""
        return 0.01

    def put_movemechanical(self, form: Form) -> None:
        """Turn it to its own angle."""
        self._to(form.number("Position"))

    def put_moveabsolute(self, form: Form) -> None:
        """Turn it to an angle on the sky."""
        self._to(form.number("Position") - self._sync_deg)

    def put_move(self, form: Form) -> None:
        """Turn it by an angle."""
        self._to(self._rotator.position() + form.number("Position"))

    def put_sync(self, form: Form) -> None:
        """Say what its angle on the sky is now."""
        self._sync_deg = form.number("Position") - self._rotator.position()

    def put_halt(self, form: Form) -> None:
        """It is quick enough."""
        raise not_implemented("Halt")

    def put_reverse(self, form: Form) -> None:
        """It cannot."""
        raise not_implemented("Reverse")

    def _to(self, goal_deg: float) -> None:
        self._goal_deg = goal_deg % 360.0
        goal = self._goal_deg
        self._moving.begin(lambda: self._rotator.move(goal))


class ServedFocuser(Device):
    """An absolute focuser (IFocuserV3)."""

    kind, interface = "focuser", 3
    most = 30_000

    def __init__(self, name: str, world: SimulatedWorld, faults: Faults) -> None:
        super().__init__(name, f"{name}, a simulated focuser", faults)
        self._focuser, self._world, self._moving = SimulatedPositioner(world, "focus", 0.002), world, Moving()

    def get_absolute(self) -> bool:
        """It knows where it is."""
        return True

    def get_position(self) -> int:
        """In steps."""
        return round(self._focuser.position())

    def get_ismoving(self) -> bool:
        """Whether it moves."""
        return self._moving.goes_on

    def get_maxstep(self) -> int:
        """The furthest it goes."""
        return self.most

    get_maxincrement = get_maxstep

    def get_stepsize(self) -> float:
        """In µm."""
        return 4.0

    def get_tempcomp(self) -> bool:
        """It does not."""
        return False

    get_tempcompavailable = get_tempcomp

    def get_temperature(self) -> float:
        """Of the air, in °C."""
        return self._world.model.air_c

    def put_move(self, form: Form) -> None:
        """Move it; it goes on while the focuser answers."""
        goal = form.whole("Position")
        if not 0 <= goal <= self.most:
            raise invalid(f"It goes from 0 to {self.most}, not to {goal}.")
        self._moving.begin(lambda: self._focuser.move(float(goal)))

    def put_halt(self, form: Form) -> None:
        """It is quick enough."""
        raise not_implemented("Halt")

    def put_tempcomp(self, form: Form) -> None:
        """It does not."""
        raise not_implemented("TempComp")
