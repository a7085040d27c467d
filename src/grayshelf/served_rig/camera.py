"""The simulated camera as a device of the standard (ICameraV3)."""

from __future__ import annotations

import threading
from dataclasses import replace
from datetime import datetime
from typing import Any

import numpy as np
from numpy.typing import NDArray

from grayshelf.clock import Interrupted
from grayshelf.core.errors import GrayShelfError
from grayshelf.devices.alpaca.hands import HAND, HUNG
from grayshelf.devices.alpaca.image_bytes import turned
from grayshelf.devices.ports import Exposed
from grayshelf.devices.simulated.rig import SimulatedHands, SimulatedWorld
from grayshelf.served_rig.camera_says import LONGEST_S, CameraSays
from grayshelf.served_rig.device import Faults, Form, Refusal, invalid, not_implemented

#: States of the standard: idle, waiting, exposing, reading, downloading, error.
IDLE, EXPOSING, ERROR = 0, 2, 5


class ServedCamera(CameraSays):
    """A camera."""

    def __init__(self, name: str, world: SimulatedWorld, faults: Faults) -> None:
        super().__init__(name, world, faults)
        self._hands = SimulatedHands(world)
        self._bin, self._start = 1, [0, 0]
        self._size = [self._facts.width, self._facts.height]
        self._gain, self._offset = (
            int(r[0]) if r is not None else 0 for r in (self._facts.gain_range, self._facts.offset_range)
        )
        self._state = IDLE
        self._exposure: threading.Thread | None = None
        self._cancel = threading.Event()
        self._asked = (0.0, world.clock.now())
        self._last: tuple[float, datetime] | None = None
        self.picture: NDArray[np.uint16] | None = None
        """Shape (width, height): as the wire has it, the first index is x."""

    def get_electronsperadu(self) -> float:
        """At the gain that is set."""
        return round(self._world.model.sensor.e_per_adu(self._gain), 4)

    # -- gain, offset, binning, part of the sensor ------------------------------------------------------------------

    def get_gain(self) -> int:
        """Now."""
        return self._gain

    def put_gain(self, form: Form) -> None:
        """Set it."""
        self._gain = self._in_range("Gain", form.whole("Gain"), self._facts.gain_range)

    def get_offset(self) -> int:
        """Now."""
        return self._offset

    def put_offset(self, form: Form) -> None:
        """Set it."""
        self._offset = self._in_range("Offset", form.whole("Offset"), self._facts.offset_range)

    def _in_range(self, what: str, value: int, allowed: tuple[float, float] | None) -> int:
        if allowed is None:
            raise not_implemented(what)
        if not allowed[0] <= value <= allowed[1]:
            raise invalid(f"{what} goes from {allowed[0]:g} to {allowed[1]:g}, not to {value}.")
        return value

    def get_gainmin(self) -> int:
        """The lowest gain."""
        return self._end(self._facts.gain_range, 0)

    def get_gainmax(self) -> int:
        """The highest gain."""
        return self._end(self._facts.gain_range, 1)

    def get_offsetmin(self) -> int:
        """The lowest offset."""
        return self._end(self._facts.offset_range, 0)

    def get_offsetmax(self) -> int:
        """The highest offset."""
        return self._end(self._facts.offset_range, 1)

    def _end(self, allowed: tuple[float, float] | None, which: int) -> int:
        if allowed is None:
            raise not_implemented("This range")
        return int(allowed[which])

    def get_binx(self) -> int:
        """Now."""
        return self._bin

    get_biny = get_binx

    def put_binx(self, form: Form) -> None:
        """Set it; both are one."""
        self._set_bin(form.whole("BinX"))

    def put_biny(self, form: Form) -> None:
        """Set it; both are one."""
        self._set_bin(form.whole("BinY"))

    def _set_bin(self, binning: int) -> None:
        if not 1 <= binning <= self._facts.most_binning:
            raise invalid(f"It bins up to {self._facts.most_binning}, not {binning}.")
        self._bin = binning

    def get_startx(self) -> int:
        """First column that is sent."""
        return self._start[0]

    def get_starty(self) -> int:
        """First row that is sent."""
        return self._start[1]

    def get_numx(self) -> int:
        """Columns that are sent."""
        return self._size[0]

    def get_numy(self) -> int:
        """Rows that are sent."""
        return self._size[1]

    def put_startx(self, form: Form) -> None:
        """Set it; what cannot be is refused when an exposure starts."""
        self._start[0] = form.whole("StartX")

    def put_starty(self, form: Form) -> None:
        """Set it."""
        self._start[1] = form.whole("StartY")

    def put_numx(self, form: Form) -> None:
        """Set it."""
        self._size[0] = form.whole("NumX")

    def put_numy(self, form: Form) -> None:
        """Set it."""
        self._size[1] = form.whole("NumY")

    # -- exposures --------------------------------------------------------------------------------------------------

    def put_startexposure(self, form: Form) -> None:
        """Start one; it goes on while the camera answers."""
        seconds = form.number("Duration")
        form.truth("Light")
        if not 0.0 <= seconds <= LONGEST_S:
            raise invalid(f"An exposure of {seconds:g} s cannot be.")
        self._check_part()
        with self.lock:
            if self._state == EXPOSING:
                raise Refusal(0x40B, "It exposes already.")
            self._state, self.picture, self._last = EXPOSING, None, None
            self._cancel = threading.Event()
            self._asked = (seconds, self._world.clock.now())
            self._exposure = threading.Thread(
                target=self._expose, args=(seconds, self._cancel), name="served exposure", daemon=True
            )
            self._exposure.start()

    def _check_part(self) -> None:
        for start, size, whole in zip(
            self._start, self._size, (self._facts.width, self._facts.height), strict=True
        ):
            if start < 0 or size < 1 or start + size > whole // self._bin:
                raise invalid("This part is not on the sensor.")

    def _expose(self, seconds: float, cancel: threading.Event) -> None:
        part = tuple(slice(a, a + n) for a, n in zip(self._start, self._size, strict=True))
        try:
            if self.faults.strikes("stuck exposing"):
                cancel.wait()
                raise Interrupted
            exposed = self._camera.expose(seconds, self._gain, self._offset, self._bin, cancel)
        except Interrupted:
            self._ended(cancel, IDLE)
            return
        except GrayShelfError:
            self._ended(cancel, ERROR)
            return
        if self.faults.strikes("exposure fails"):
            self._ended(cancel, ERROR)
            return
        # Turned to the order of the wire here, beside the exposure, and not when it is fetched.
        self._ended(cancel, IDLE, exposed, turned(exposed.pixels[part[1], part[0]]))

    def _ended(
        self,
        cancel: threading.Event,
        state: int,
        exposed: Exposed | None = None,
        picture: NDArray[np.uint16] | None = None,
    ) -> None:
        with self.lock:
            if cancel is not self._cancel:
                return
            self._state, self.picture = state, picture
            if exposed is not None:
                self._last = (self._asked[0], exposed.began)

    def put_abortexposure(self, form: Form) -> None:
        """Break it off."""
        self._cancel.set()
        if self._exposure is not None:
            self._exposure.join(5.0)
        with self.lock:
            self._state = IDLE

    def put_stopexposure(self, form: Form) -> None:
        """It cannot end one early and keep it."""
        raise not_implemented("StopExposure")

    def put_pulseguide(self, form: Form) -> None:
        """It cannot."""
        raise not_implemented("PulseGuide")

    def put_fastreadout(self, form: Form) -> None:
        """There is none."""
        raise not_implemented("FastReadout")

    def put_subexposureduration(self, form: Form) -> None:
        """There is none."""
        raise not_implemented("SubExposureDuration")

    def get_camerastate(self) -> int:
        """What it does."""
        return self._state

    def get_imageready(self) -> bool:
        """Whether a picture waits."""
        return self.picture is not None

    def get_percentcompleted(self) -> int:
        """Of the exposure."""
        if self._state != EXPOSING:
            return 100 if self.picture is not None else 0
        seconds, began = self._asked
        return int(min(100.0 * (self._world.clock.now() - began).total_seconds() / max(seconds, 1e-3), 100.0))

    def get_lastexposureduration(self) -> float:
        """In seconds."""
        return self._last_exposure()[0]

    def get_lastexposurestarttime(self) -> str:
        """UTC, as FITS writes it."""
        return self._last_exposure()[1].strftime("%Y-%m-%dT%H:%M:%S.%f")[:-3]

    def _last_exposure(self) -> tuple[float, datetime]:
        if self._last is None:
            raise Refusal(0x40B, "Nothing was exposed yet.")
        return self._last

    # -- what a person does at a real telescope -----------------------------------------------------------------------

    def get_supportedactions(self) -> list[str]:
        """What hands do."""
        return [HAND, HUNG]

    def put_action(self, form: Form) -> str:
        """A hand puts the panel up, a cap on, hangs a cloth."""
        action, value = form.text("Action"), form.text("Parameters")
        if action == HAND:
            self._hands.did(value)
        elif action == HUNG:
            self._hands.hung(Form({"stops": value}).number("stops"))
        else:
            raise Refusal(0x40C, f"{action} is not known to {self.name}.")
        return ""

    def fail(self, fault: str, *, begins: bool) -> None:
        """Let a fault of the world begin or end: 'cooler gives up', 'wheel stuck', 'camera gone'."""
        faults = [f for f in self._world.state.faults if f != fault]
        self._world.change(faults=[*faults, fault] if begins else faults)

    def state_of_world(self) -> Any:
        """A copy of what is where, for tests."""
        return replace(self._world.state)
