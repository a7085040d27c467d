"""A camera on the network: exposures with everything explicit, its picture, its cooler."""

from __future__ import annotations

import threading
import time
from contextlib import suppress
from typing import Any

import numpy as np
from numpy.typing import NDArray

from grayshelf.clock import Clock, Interrupted
from grayshelf.core.errors import DeviceError
from grayshelf.devices.alpaca.asking import DOING_S, IMAGE_BYTES, AlpacaDevice
from grayshelf.devices.alpaca.errors import DeviceRefused, NotAnswering, Rubbish
from grayshelf.devices.alpaca.image_bytes import from_image_bytes, from_json
from grayshelf.devices.alpaca.waiting import wait_until
from grayshelf.devices.ports import CameraFacts, CoolerState, Exposed

#: States of the standard's camera: idle, waiting, exposing, reading, downloading, error.
IDLE, ERROR = 0, 5
#: A picture may come so much later than its exposure ends, and take so long to be sent.
LATE_S, SENDING_S = 60.0, 120.0
#: Stopping an exposure may take so long, and is given up then.
ABORT_S = 1.5
#: JSON takes up to eight bytes where ImageBytes takes two to eight, and the header is 44.
BYTES_A_PIXEL = 8


class AlpacaCamera:
    """A camera of the Alpaca standard (ICameraV2 and later)."""

    def __init__(
        self,
        device: AlpacaDevice,
        facts: CameraFacts,
        clock: Clock,
        *,
        gains: tuple[str, ...] = (),
        offsets: tuple[str, ...] = (),
    ) -> None:
        """`facts` as it said when it was tried; `gains` and `offsets`: names of what it can be set to, where it has a list."""
        self.facts, self._device, self._clock = facts, device, clock
        self._exposing = False
        """An exposure was begun from here, and its picture did not come yet."""
        self._gains, self._offsets = gains, offsets

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
        """Take one frame; stopped, the exposure is broken off."""
        camera = self._device
        camera.connect()
        self._see_that_it_is_free(cancel)
        size = self._set_up(gain, offset, binning)
        sensor_c = self._sensor_c()
        began = self._clock.now()
        self._exposing = True
        try:
            camera.put("startexposure", cancel=cancel, Duration=exposure_s, Light=shutter_open)
            self._wait_for_picture(exposure_s, cancel)
            pixels = self._picture(size, cancel)
        except Interrupted:
            self._abort()
            raise
        self._exposing = False
        # The frame is here: a device that does not answer any more takes none of it away.
        with suppress(DeviceError):
            sensor_c = self._sensor_c()
        return Exposed(pixels, began, sensor_c, self._conversion())

    def _sensor_c(self) -> float | None:
        return _number(self._device.has("ccdtemperature")) if self.facts.tells_temperature else None

    def cooler(self) -> CoolerState:
        """The cooler's state."""
        camera = self._device
        camera.connect()
        sensor_c = self._sensor_c()
        if not self.facts.cooled:
            return CoolerState(sensor_c, None, 0.0)
        on = camera.get("cooleron") is True
        set_point_c = _number(camera.has("setccdtemperature")) if on else None
        return CoolerState(sensor_c, set_point_c, (_number(camera.has("coolerpower")) or 0.0) if on else 0.0)

    def set_temperature(self, set_point_c: float) -> None:
        """Give the cooler a set point, and switch it on."""
        if not self.facts.cooled:
            raise DeviceError(
                f"{self.facts.name} cannot be given a temperature.", "Shoot its darks right after the lights."
            )
        self._device.connect()
        self._device.put("setccdtemperature", SetCCDTemperature=set_point_c)
        self._device.put("cooleron", CoolerOn=True)

    def cooler_off(self) -> None:
        """Let the sensor be as warm as it will."""
        if self.facts.cooled:
            self._device.connect()
            self._device.put("cooleron", CoolerOn=False)

    def _see_that_it_is_free(self, cancel: threading.Event | None) -> None:
        """An exposure of one's own that went wrong is broken off; another program's is left alone.

        Raises
        ------
        DeviceError
            Where another program exposes with it.
        """
        if self._device.get("camerastate") in (IDLE, ERROR):
            return
        busy = DeviceError(
            f"{self.facts.name} is exposing for another program; nothing of that was touched.",
            "Let that end, or stop it there, then go on.",
        )
        if not self._exposing:
            raise busy
        self._abort()
        wait_until(lambda: self._device.get("camerastate") in (IDLE, ERROR), DOING_S, busy, cancel)

    # -- an exposure ------------------------------------------------------------------------------------------------

    def _set_up(self, gain: float, offset: float, binning: int) -> tuple[int, int]:
        """Binning, the whole sensor, gain and offset: nothing is left at what another program set. The picture's size."""
        camera, facts = self._device, self.facts
        if not 1 <= binning <= facts.most_binning:
            raise DeviceError(f"{facts.name} does not bin {binning} × {binning}.", "Use binning 1.")
        width, height = facts.width // binning, facts.height // binning
        camera.put("binx", BinX=binning)
        camera.put("biny", BinY=binning)
        camera.put("startx", StartX=0)
        camera.put("starty", StartY=0)
        camera.put("numx", NumX=width)
        camera.put("numy", NumY=height)
        if facts.gain_range is not None:
            camera.put("gain", Gain=self._setting("gain", self._gains, gain))
        if facts.offset_range is not None:
            camera.put("offset", Offset=self._setting("offset", self._offsets, offset))
        return width, height

    def _setting(self, what: str, names: tuple[str, ...], value: float) -> int:
        """A gain or offset as the camera takes it: itself, or its place in the camera's list."""
        if not names:
            if value != round(value):
                raise DeviceError(f"{self.facts.name} takes whole numbers as its {what}, not {value:g}.")
            return round(value)
        for place, name in enumerate(names):
            if number_in(name) == value:
                return place
        raise DeviceError(
            f"{self.facts.name} has no {what} {value:g}: it can be set to {', '.join(names)}.",
            f"Choose a {what} of its list.",
        )

    def _wait_for_picture(self, exposure_s: float, cancel: threading.Event | None) -> None:
        camera, since = self._device, time.monotonic()

        def ready() -> bool:
            if camera.get("imageready", cancel=cancel) is True:
                return True
            state = camera.get("camerastate", cancel=cancel)
            if state == ERROR:
                raise DeviceError(
                    f"{self.facts.name} says that its exposure of {exposure_s:g} s went wrong; there is no frame of it.",
                    "Go on: the frame is taken again.",
                )
            if state == IDLE and time.monotonic() - since > 1.0 and camera.get("imageready") is not True:
                # Its program was restarted, or another program broke it off.
                raise DeviceError(
                    f"{self.facts.name} is idle and has no picture: its exposure of {exposure_s:g} s was lost.",
                    "See that no other program uses the camera, then go on: the frame is taken again.",
                )
            return False

        stuck = DeviceError(
            f"{self.facts.name} still exposes {LATE_S:.0f} s after its exposure of {exposure_s:g} s should have "
            "ended. There is no frame of it.",
            "Switch the camera off and on, then go on: the frame is taken again.",
        )
        try:
            wait_until(ready, exposure_s + LATE_S, stuck, cancel)
        except DeviceError as error:
            if error is stuck:
                self._abort()
            raise

    def _picture(self, size: tuple[int, int], cancel: threading.Event | None) -> NDArray[np.uint16]:
        """The picture that is ready, fetched again where it was lost on its way: it stays ready until the next."""
        name, most = self.facts.name, size[0] * size[1] * BYTES_A_PIXEL + 65_536
        reply, number = self._device.image(most, SENDING_S, cancel)
        if reply.status == 200 and reply.kind == IMAGE_BYTES:
            return from_image_bytes(name, reply.body, number, size)
        return from_json(name, self._device.value_in(reply, number), size)

    def _abort(self) -> None:
        """Break an exposure off, where the camera can; it is not waited for."""
        for how in ("abortexposure", "stopexposure"):
            try:
                self._device.put(how, within_s=ABORT_S)
            except DeviceRefused:
                # It can only end it early, and the picture is left where it is.
                continue
            except DeviceError:
                return
            return

    def _conversion(self) -> float | None:
        """Electrons per ADU at the gain that is set, where the camera tells a number that can be."""
        if not self.facts.tells_conversion:
            return None
        with suppress(DeviceRefused, NotAnswering, Rubbish):
            told = _number(self._device.has("electronsperadu"))
            return told if told is not None and told > 0 else None
        return None


def _number(told: Any) -> float | None:
    """A number that is one."""
    return float(told) if isinstance(told, int | float) and np.isfinite(told) else None


def number_in(name: str) -> float | None:
    """The number in the name of a gain ('ISO 800', '200'); None where there is none, or more than one."""
    digits = "".join(c if c.isdigit() or c == "." else " " for c in name).split()
    try:
        return float(digits[0]) if len(digits) == 1 else None
    except ValueError:
        return None
