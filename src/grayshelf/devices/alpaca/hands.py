"""What a person did, told to a stand-in that cannot see it: by the standard's own way for what it has no words for."""

from __future__ import annotations

from grayshelf.devices.alpaca.asking import AlpacaDevice

#: Actions of Gray Shelf's own stand-in rig.
HAND, HUNG = "GrayShelf:Hand", "GrayShelf:Hung"


class AlpacaHands:
    """The person at a stand-in rig."""

    def __init__(self, device: AlpacaDevice) -> None:
        self._device = device

    def did(self, gate: str) -> None:
        """It is done."""
        self._device.connect()
        self._device.put("action", Action=HAND, Parameters=gate)

    def hung(self, stops: float) -> None:
        """One more diffuser hangs before the panel."""
        self._device.connect()
        self._device.put("action", Action=HUNG, Parameters=f"{stops:g}")
