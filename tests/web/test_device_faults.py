"""What can go wrong between here and a device over HTTP: each ends in words, nothing hangs, and the next frame is whole."""

from __future__ import annotations

import json
import socket
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from types import SimpleNamespace

import ifaddr
import numpy as np
import pytest

from grayshelf.clock import Interrupted, SimulatedClock
from grayshelf.core.errors import DeviceError
from grayshelf.demo.rigs import START
from grayshelf.devices.alpaca import asking, building, camera, light, movers, waiting
from grayshelf.devices.alpaca.asking import AlpacaDevice, AlpacaServer
from grayshelf.devices.alpaca.discovery import ask_server, broadcasts, look_for_servers
from grayshelf.devices.alpaca.saying import try_device
from grayshelf.served_rig.serving import Answering
from tests.served import ServedRig


@pytest.fixture(autouse=True)
def _impatient(monkeypatch):
    """As impatient as a machine that does much else beside the test allows."""
    monkeypatch.setattr(asking, "ANSWER_S", 2.0)
    monkeypatch.setattr(AlpacaDevice.get, "__kwdefaults__", {"within_s": 2.0, "cancel": None})
    # A machine that is busy may be late by more than a moment, where nothing is wrong.
    monkeypatch.setattr(camera, "LATE_S", 3.0)
    monkeypatch.setattr(movers, "WHEEL_S", 0.7)
    monkeypatch.setattr(light, "LIGHT_S", 0.7)
    monkeypatch.setattr(waiting, "MAY_BE_SILENT_S", 1.5)


class Rig:
    """The served rig's first camera, wheel and panel, as work drives them."""

    def __init__(self, served: ServedRig, clock) -> None:
        self.served, self.world = served, served.worlds["heron"]
        servers = building.Servers()

        def device(kind):
            return servers.device(f"http://{served.address}", kind, 0, f"The {kind}")

        said = {kind: try_device(device(kind)).said for kind in ("camera", "filterwheel", "covercalibrator")}
        self.camera = building.camera_of(
            device("camera"), said["camera"], clock, called="Dunlin M24", white_adu=None
        )
        self.wheel = building.wheel_of(device("filterwheel"), said["filterwheel"], ("L", "R", "Ha"))
        self.panel = building.panel_of(device("covercalibrator"), said["covercalibrator"], None)

    def frame(self, seconds=0.5, cancel=None):
        return self.camera.expose(seconds, 100, 30, 1, cancel).pixels


@pytest.fixture
def clock():
    return SimulatedClock(START, 1e6)


@pytest.fixture
def rig(clock):
    served = ServedRig(clock)
    with pytest.MonkeyPatch.context() as patient:
        # Nothing goes wrong until it is made.
        patient.setattr(AlpacaDevice.get, "__kwdefaults__", {"within_s": 30.0, "cancel": None})
        made = Rig(served, clock)
    yield made
    served.faults.now.clear()
    served.cut_off()


def test_a_picture_comes_as_the_sensor_gave_it(rig):
    """Shape (height, width): on the wire the first index is x (Alpaca API reference, ImageArray)."""
    served = rig.served.devices[0]
    for binning in (1, 2):
        pixels = rig.camera.expose(0.5, 100, 30, binning).pixels
        assert pixels.shape == (214 // binning, 320 // binning) and pixels.dtype == np.uint16
        assert np.array_equal(pixels.T, served.picture)
    # A client that knows no ImageBytes is given the same in JSON.
    from alpaca.camera import Camera

    other = Camera(rig.served.address, 0)
    assert np.array_equal(np.array(other.ImageArray), served.picture)
    assert other.MaxADU == 65535 and other.Gain == 100 and other.BinX == 2


#: A fault, how often it strikes, and what is said of it; None where the frame comes all the same.
OF_THE_NETWORK = [
    ("half a picture", 1, None),
    ("half a picture", 2, "lost in the middle"),
    ("rubbish", 1, "no JSON"),
    ("other transaction", 1, "another question"),
    ("error", 1, "The driver <b>lost</b> the device"),
    ("no answer", -1, "did not answer within"),
    ("stuck exposing", 1, "still exposes"),
    ("exposure fails", 1, "went wrong"),
]


@pytest.mark.parametrize(("fault", "times", "said"), OF_THE_NETWORK)
def test_each_fault_ends_in_words_and_the_next_frame_is_whole(rig, fault, times, said):
    rig.frame()
    taken = rig.world.state.frames_taken
    rig.served.faults.begin(fault, times)
    began = time.monotonic()
    if said is None:
        assert rig.frame().shape == (214, 320)
        assert rig.world.state.frames_taken == taken + 1, "fetched again, not taken again"
    else:
        with pytest.raises(DeviceError, match=said) as told:
            rig.frame()
        assert told.value.advice
        rig.served.faults.end(fault)
        time.sleep(0.1)
        assert rig.frame().shape == (214, 320)
    assert time.monotonic() - began < 8.0


def test_a_program_that_was_restarted_is_connected_to_again_and_a_lost_exposure_is_said(rig, clock):
    rig.frame()
    rig.served.cut_off()
    with pytest.raises(DeviceError, match=r"Nothing answers|connection"):
        rig.frame()
    rig.served.start()
    assert rig.frame().shape == (214, 320)
    # In the middle of an exposure.
    clock.rate = 10.0
    restart = threading.Timer(0.5, lambda: (rig.served.cut_off(), rig.served.start()))
    restart.start()
    with pytest.raises(DeviceError, match=r"was lost|not connected|in the middle"):
        rig.frame(60.0)
    restart.join()
    clock.rate = 1e6
    assert rig.frame().shape == (214, 320)


def test_stop_breaks_an_exposure_off_within_two_seconds_even_of_one_that_does_not_answer(rig, clock):
    clock.rate = 1.0
    for fault in ("", "no answer"):
        cancel = threading.Event()
        threading.Timer(0.4, lambda f=fault: f and rig.served.faults.begin(f)).start()
        threading.Timer(0.7, cancel.set).start()
        began = time.monotonic()
        with pytest.raises(Interrupted):
            rig.frame(600.0, cancel)
        assert time.monotonic() - began < 0.7 + 2.0
        rig.served.faults.now.clear()
        if not fault:
            assert rig.served.devices[0].get_camerastate() == 0, "aborted"
    clock.rate = 1e6
    assert rig.frame().shape == (214, 320), "what could not be broken off then is broken off now"


def test_what_another_program_exposes_is_left_alone(rig, clock):
    clock.rate = 1.0
    other = AlpacaDevice(AlpacaServer(f"http://{rig.served.address}"), "camera", 0, "it")
    other.put("startexposure", Duration=600.0, Light=True)
    with pytest.raises(DeviceError, match="another program"):
        rig.frame()
    assert other.get("camerastate") == 2
    other.put("abortexposure")


def test_wheel_and_panel_that_do_not_do_as_told(rig):
    rig.served.faults.begin("wheel never arrives", 1)
    with pytest.raises(DeviceError, match="did not bring R in"):
        rig.wheel.move(1)
    rig.wheel.move(1)
    assert rig.wheel.position() == 1
    rig.served.faults.begin("brightness reads back other")
    with pytest.raises(DeviceError, match="set to 40 and says that it is at 39"):
        rig.panel.set_brightness(40)
    rig.served.faults.end("brightness reads back other")
    rig.panel.set_brightness(40)
    assert rig.panel.brightness() == 40
    rig.panel.set_brightness(0)
    assert rig.panel.brightness() == 0


class Odd:
    """A program that answers as no standard says."""

    def __init__(self, answer) -> None:
        outer = self
        self.asked: list[str] = []

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self):
                outer.asked.append(self.path)
                answer(self)

            do_PUT = do_GET  # noqa: N815

            def log_message(self, *_):
                return

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.address = f"http://127.0.0.1:{self.server.server_address[1]}"
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    def close(self):
        self.server.shutdown()
        self.server.server_close()


def _send(handler, body: bytes, *, kind="application/json", status=200, headers=()):
    handler.send_response(status)
    handler.send_header("Content-Type", kind)
    for name, value in headers:
        handler.send_header(name, value)
    handler.end_headers()
    handler.wfile.write(body)


def _trickle(handler):
    handler.send_response(200)
    handler.end_headers()
    for _ in range(100):
        handler.wfile.write(b" ")
        time.sleep(0.1)


ODD = {
    "without end": lambda h: [_send(h, b"1" * 100_000) for _ in range(60)],
    "announced too large": lambda h: _send(h, b"", headers=[("Content-Length", str(10**12))]),
    "trickling": _trickle,
    "deep": lambda h: _send(h, b"[" * 500_000),
    "a list": lambda h: _send(h, b"[1, 2]"),
    "sent elsewhere": lambda h: _send(h, b"", status=302, headers=[("Location", "http://127.0.0.1:1/")]),
    "packed": lambda h: _send(h, b"\x1f\x8b" + b"x" * 50, headers=[("Content-Encoding", "gzip")]),
    "a page": lambda h: _send(h, b"<script>alert(1)</script>", kind="text/html", status=500),
    "not a number": lambda h: _send(h, json.dumps({"Value": "NaN", "ErrorNumber": 0}).encode()),
}


@pytest.mark.parametrize("how", ODD)
def test_an_odd_answer_is_bounded_and_refused(how):
    odd = Odd(ODD[how])
    try:
        device = AlpacaDevice(AlpacaServer(odd.address), "focuser", 0, "It")
        began = time.monotonic()
        with pytest.raises(DeviceError) as told:
            movers.read_number(device, "position")
        assert time.monotonic() - began < 3.0 and len(told.value.message) < 500
        assert ask_server(odd.address).trouble
    finally:
        odd.close()


def test_a_picture_of_another_size_or_order_is_none():
    from grayshelf.devices.alpaca.image_bytes import from_image_bytes, turned
    from grayshelf.served_rig.app import _HEADER

    pixels = np.arange(6, dtype="<u2").reshape(2, 3)

    def body(rank=2, size=(3, 2), kind=8, start=44, number=7, error=0):
        return _HEADER.pack(1, error, number, 1, start, 2, kind, rank, *size, 0) + turned(pixels).tobytes()

    assert np.array_equal(from_image_bytes("It", body(), 7, (3, 2)), pixels)
    for wrong in (
        body(rank=3),
        body(size=(2, 3)),
        body(size=(-3, -2)),
        body(kind=99),
        body(start=4),
        body(start=2**31 - 1),
        body(number=8),
        body(error=0x40B),
        body()[:-1],
        body()[:20],
        b"",
    ):
        with pytest.raises(DeviceError):
            from_image_bytes("It", wrong, 7, (3, 2))
    # Levels that are no counts are refused, not folded.
    low = _HEADER.pack(1, 0, 7, 1, 44, 2, 2, 2, 1, 1, 0) + np.array([-5], "<i4").tobytes()
    with pytest.raises(DeviceError, match="no 16-bit counts"):
        from_image_bytes("It", low, 7, (1, 1))


def test_every_network_is_asked_also_where_no_router_is(monkeypatch):
    """A laptop in the house's network and on a cable to the mount; a tunnel, which has two ends and no broadcast."""

    def adapter(*ips):
        return SimpleNamespace(ips=[SimpleNamespace(ip=ip, network_prefix=prefix) for ip, prefix in ips])

    adapters = [adapter(("127.0.0.1", 8)), adapter(("192.168.1.20", 24), (("fe80::1", 0, 2), 64)), adapter(("169.254.7.9", 16)),
                adapter(("10.8.0.2", 32)), adapter(("172.16.5.130", 25))]  # fmt: skip
    monkeypatch.setattr(ifaddr, "get_adapters", lambda: adapters)
    assert broadcasts() == [
        "255.255.255.255", "127.0.0.1", "192.168.1.255", "169.254.255.255", "172.16.5.255",
    ]  # fmt: skip
    monkeypatch.setattr(ifaddr, "get_adapters", lambda: (_ for _ in ()).throw(OSError("no such thing here")))
    assert broadcasts() == ["255.255.255.255", "127.0.0.1"]


def test_looked_for_by_the_broadcast():
    """Alpaca discovery protocol, version 1: 'alpacadiscovery1' is answered with the port."""
    answering = Answering(12345, everywhere=False, port=0)
    answering.start()
    try:
        found = look_for_servers(("127.0.0.1",), answering.port, 0.6)
        assert found == ["http://127.0.0.1:12345"]
    finally:
        answering.end()
    # Anything else that comes back is passed over.
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as rude:
        rude.bind(("127.0.0.1", 0))

        def answer():
            _, where = rude.recvfrom(100)
            for told in (
                b"",
                b"\xff\xfe",
                b"[]",
                b'{"AlpacaPort": "x"}',
                b'{"AlpacaPort": 99999}',
                b"[" * 1500,
            ):
                rude.sendto(told, where)

        threading.Thread(target=answer, daemon=True).start()
        assert look_for_servers(("127.0.0.1",), rude.getsockname()[1], 0.4) == []


def test_a_cooler_is_driven_and_one_that_gives_up_is_seen(rig, clock):
    rig.camera.set_temperature(-5.0)
    clock.sleep(600)
    state = rig.camera.cooler()
    assert state.set_point_c == -5.0 and state.sensor_c == pytest.approx(-5.0, abs=0.1)
    assert 0 < state.power_percent < 100
    rig.world.change(faults=["cooler gives up"], sensor_at=clock.now().isoformat())
    clock.sleep(600)
    assert rig.camera.cooler().sensor_c > 0
    rig.camera.cooler_off()
    assert rig.camera.cooler().set_point_c is None
