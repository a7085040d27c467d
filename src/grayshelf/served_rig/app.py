"""The served rigs' answers over HTTP, as the standard writes them."""

from __future__ import annotations

import itertools
import json
import struct
import time
from collections.abc import Sequence
from typing import Any

import numpy as np
from flask import Flask, Response, request

from grayshelf import __version__
from grayshelf.core.errors import GrayShelfError
from grayshelf.served_rig.around import ServedSwitch
from grayshelf.served_rig.camera import ServedCamera
from grayshelf.served_rig.device import BadRequest, Device, Faults, Form, Refusal

#: The header of ImageBytes: version, error, client's and server's transaction, start, element types, rank, sizes.
_HEADER = struct.Struct("<iiIIiiiiiii")
_INT32, _UINT16 = 2, 8
#: Any other error of a driver has a number from here.
_DRIVER = 0x500


def make_app(devices: Sequence[Device], faults: Faults, site: str) -> Flask:
    """The application that serves these devices."""
    app = Flask("grayshelf.served_rig")
    served = {(d.kind, number): d for d, number in _numbered(devices)}
    transactions = itertools.count(1)

    @app.before_request
    def _network_faults() -> Response | None:
        return _disturbed(faults)

    @app.get("/management/apiversions")
    def _versions() -> Response:
        return _reply([1], next(transactions))

    @app.get("/management/v1/description")
    def _description() -> Response:
        told = {
            "ServerName": "Gray Shelf’s simulated rigs",
            "Manufacturer": "Gray Shelf",
            "ManufacturerVersion": __version__,
            "Location": site,
        }
        return _reply(told, next(transactions))

    @app.get("/management/v1/configureddevices")
    def _configured() -> Response:
        listed = [
            {
                "DeviceName": d.name,
                "DeviceType": _TYPES[kind],
                "DeviceNumber": n,
                "UniqueID": f"grayshelf-{kind}-{n}",
            }
            for (kind, n), d in served.items()
        ]
        return _reply(listed, next(transactions))

    @app.get("/setup")
    @app.get("/setup/v1/<kind>/<int:number>/setup")
    def _setup(kind: str = "", number: int = 0) -> Response:
        return Response("A simulated rig: there is nothing to be set up.\n", mimetype="text/plain")

    @app.get("/api/v1/<kind>/<int:number>/<what>")
    def _get(kind: str, number: int, what: str) -> Response:
        device = served.get((kind, number))
        if device is None:
            return _bad(f"There is no {kind} {number}.")
        if what == "imagearray" and isinstance(device, ServedCamera):
            return _image(device, faults, next(transactions))
        try:
            asked_of = (_asked("Id"),) if isinstance(device, ServedSwitch) else ()
            return _reply(device.read(what, *asked_of), next(transactions))
        except (Refusal, BadRequest, GrayShelfError) as error:
            return _refused(error, next(transactions))

    @app.put("/api/v1/<kind>/<int:number>/<what>")
    def _put(kind: str, number: int, what: str) -> Response:
        device = served.get((kind, number))
        if device is None:
            return _bad(f"There is no {kind} {number}.")
        try:
            return _reply(device.do(what, Form(request.form)), next(transactions))
        except (Refusal, BadRequest, GrayShelfError) as error:
            return _refused(error, next(transactions))

    return app


_TYPES = {
    "camera": "Camera",
    "filterwheel": "FilterWheel",
    "covercalibrator": "CoverCalibrator",
    "rotator": "Rotator",
    "focuser": "Focuser",
    "telescope": "Telescope",
    "safetymonitor": "SafetyMonitor",
    "observingconditions": "ObservingConditions",
    "switch": "Switch",
}


def _numbered(devices: Sequence[Device]) -> list[tuple[Device, int]]:
    """Each device with its number among those of its kind."""
    counts: dict[str, int] = {}
    numbered = []
    for device in devices:
        numbered.append((device, counts.get(device.kind, 0)))
        counts[device.kind] = numbered[-1][1] + 1
    return numbered


def _asked(name: str) -> int:
    """A number of the question; of a GET in any case, by the standard."""
    values = request.form if request.method == "PUT" else request.args
    told = {key.lower(): value for key, value in values.items()}.get(name.lower(), "0")
    return int(told) if told.isdigit() and int(told) < 2**32 else 0


def _reply(value: Any, transaction: int, number: int = 0, word: str = "") -> Response:
    told = {
        "ClientTransactionID": _asked("ClientTransactionID"),
        "ServerTransactionID": transaction,
        "ErrorNumber": number,
        "ErrorMessage": word,
    }
    if value is not None:
        told["Value"] = value
    return Response(json.dumps(told), mimetype="application/json")


def _bad(word: str) -> Response:
    return Response(word, status=400, mimetype="text/plain")


def _refused(error: Exception, transaction: int) -> Response:
    if isinstance(error, BadRequest):
        return _bad(str(error))
    if isinstance(error, Refusal):
        return _reply(None, transaction, error.number, error.word)
    return _reply(None, transaction, _DRIVER, str(error))


def _image(camera: ServedCamera, faults: Faults, transaction: int) -> Response:
    """The picture: as ImageBytes where that is asked for, else as JSON."""
    picture = camera.picture if camera.is_connected else None
    as_bytes = "application/imagebytes" in request.headers.get("Accept", "")
    if picture is None:
        number, word = (
            (0x40B, "There is no picture.") if camera.is_connected else (0x407, "It is not connected.")
        )
        if not as_bytes:
            return _reply(None, transaction, number, word)
        return _bytes(_header(transaction, 0, (0, 0), number), word.encode())
    if not as_bytes:
        told = json.loads(_reply([], transaction).get_data()) | {
            "Type": _INT32,
            "Rank": 2,
            "Value": picture.tolist(),
        }
        return Response(json.dumps(told), mimetype="application/json")
    pixels = np.ascontiguousarray(picture, dtype="<u2")
    head = _header(transaction, 2, (pixels.shape[0], pixels.shape[1]))
    if faults.strikes("half a picture"):
        return _cut_off(head + pixels.tobytes())
    return _bytes(head, pixels.data.cast("B"))


def _header(transaction: int, rank: int, size: tuple[int, int], error: int = 0) -> bytes:
    return _HEADER.pack(
        1, error, _asked("ClientTransactionID"), transaction, _HEADER.size, _INT32, _UINT16, rank, *size, 0
    )


def _bytes(head: bytes, body: bytes | memoryview) -> Response:
    """Head and body one after the other, without a copy of both."""

    def pieces() -> Any:
        yield head
        for at in range(0, len(body), 1 << 20):
            yield bytes(body[at : at + (1 << 20)])

    response = Response(pieces(), mimetype="application/imagebytes")
    response.content_length = len(head) + len(body)
    return response


def _cut_off(whole: bytes) -> Response:
    """The first half of an answer that announces all of it; then the connection ends."""

    def half() -> Any:
        yield whole[: len(whole) // 2]
        raise ConnectionError("cut off, as was asked")

    response = Response(half(), mimetype="application/imagebytes")
    response.content_length = len(whole)
    return response


def _disturbed(faults: Faults) -> Response | None:
    """What the network does on request: an answer that is rubbish, one that never comes, an error of the server."""
    if faults.strikes("rubbish"):
        return Response("<html>\x00 not what was asked for", mimetype="application/json")
    if faults.strikes("other transaction"):
        return Response(
            '{"ClientTransactionID": 4294967295, "ErrorNumber": 0, "Value": true}',
            mimetype="application/json",
        )
    if faults.strikes("error"):
        return _reply(None, 1, _DRIVER + 1, "The driver <b>lost</b> the device.")
    if faults.strikes("no answer"):
        until = time.monotonic() + 600.0
        while "no answer" in faults.now and time.monotonic() < until:
            time.sleep(0.05)
        return Response("", status=500)
    return None
