"""Devices of other makes: gains as a list, a cover that is the panel, a mount that knows no altitude, a focuser without a place."""

from __future__ import annotations

import math

import pytest

from grayshelf.clock import SimulatedClock
from grayshelf.core.errors import DeviceError
from grayshelf.demo.rigs import START
from grayshelf.devices.alpaca import building, light
from grayshelf.devices.alpaca.saying import try_device
from grayshelf.served_rig.around import ServedMount
from grayshelf.served_rig.camera import ServedCamera
from grayshelf.served_rig.device import Refusal, invalid, not_implemented
from grayshelf.served_rig.parts import ServedFocuser, ServedPanel
from tests.own import Own
from tests.served import ServedRig

#: A site in the south, where azimuths and altitudes go the other way.
LATITUDE_DEG, SIDEREAL_H = -33.5, 19.75


class ListCamera(ServedCamera):
    """A consumer camera: its gain is a place in a list of words, an offset it has not."""

    NAMES = ["ISO 100", "ISO 200", "ISO 800"]

    def get_gains(self):
        return self.NAMES

    def get_gainmin(self):
        raise not_implemented("GainMin")

    get_gainmax = get_offsetmin = get_offsetmax = get_gainmin

    def get_offsets(self):
        raise not_implemented("Offsets")

    def put_gain(self, form):
        place = form.whole("Gain")
        if not 0 <= place < len(self.NAMES):
            raise invalid("There is no such place.")
        self.place = place
        self._gain = (100, 200, 800)[place]

    def put_offset(self, form):
        raise not_implemented("Offset")


class PanelCover(ServedPanel):
    """A cover that lights up: shut, it is the panel."""

    state, refuses = 3, False

    def get_coverstate(self):
        return 5 if self.refuses else self.state

    def put_closecover(self, form):
        self.state = 1

    def put_opencover(self, form):
        self.state = 3


class HourAngleMount(ServedMount):
    """An equatorial mount, sent by right ascension and declination; it follows the stars while it is sent."""

    at_hour_deg = at_declination_deg = 0.0
    slews = True

    def get_canslewaltazasync(self):
        return False

    def get_canslewasync(self):
        return self.slews

    def get_sitelatitude(self):
        return LATITUDE_DEG

    def get_siderealtime(self):
        return SIDEREAL_H

    def put_slewtoaltazasync(self, form):
        raise not_implemented("SlewToAltAzAsync")

    def put_slewtocoordinatesasync(self, form):
        if not self._tracking:
            raise Refusal(0x40B, "It stands.")
        self.at_hour_deg = (SIDEREAL_H - form.number("RightAscension")) * 15.0
        self.at_declination_deg = form.number("Declination")

    def where(self):
        """Altitude and azimuth from north through east, in degrees, by the handbooks' triangle (Meeus, Astronomical
        Algorithms, chapter 13; from memory)."""
        h, d, f = (math.radians(v) for v in (self.at_hour_deg, self.at_declination_deg, LATITUDE_DEG))
        altitude = math.asin(math.sin(f) * math.sin(d) + math.cos(f) * math.cos(d) * math.cos(h))
        south = math.atan2(math.sin(h), math.cos(h) * math.sin(f) - math.tan(d) * math.cos(f))
        return math.degrees(altitude), (math.degrees(south) + 180.0) % 360.0

    def get_altitude(self):
        return self.where()[0]

    def get_azimuth(self):
        return self.where()[1]


class RelativeFocuser(ServedFocuser):
    """It knows steps, and no place."""

    def get_absolute(self):
        return False

    def get_position(self):
        raise not_implemented("Position")


class OtherRig(ServedRig):
    def made(self):
        heron = self.worlds["heron"]
        return [
            ListCamera("Otter 5", heron, self.faults),
            PanelCover("Lid", heron, self.faults),
            HourAngleMount("Pier", heron, self.faults),
            RelativeFocuser("Knob", heron, self.faults),
        ]


@pytest.fixture
def served():
    rig = OtherRig(SimulatedClock(START, 1e6))
    yield rig
    rig.cut_off()


def device(served, kind):
    return building.Servers().device(f"http://{served.address}", kind, 0, kind)


def one(served, kind):
    return next(d for d in served.devices if d.kind == kind)


def test_a_gain_of_a_list_is_set_by_its_place_and_one_that_is_not_in_it_is_refused(served):
    at = device(served, "camera")
    said = try_device(at).said
    assert said.gains == ("ISO 100", "ISO 200", "ISO 800") and said.facts.gain_range == (100, 800)
    assert said.facts.offset_range is None
    camera = building.camera_of(at, said, SimulatedClock(START, 1e6), called="Otter 5", white_adu=None)
    for gain, place in ((200, 1), (100, 0), (800, 2)):
        assert camera.expose(0.5, gain, 0, 1).pixels.size and one(served, "camera").place == place
    with pytest.raises(DeviceError, match="no gain 400: it can be set to ISO 100, ISO 200, ISO 800"):
        camera.expose(0.5, 400, 0, 1)


def test_a_cover_that_is_the_panel_is_shut_for_flats_and_dark_for_darks(served, monkeypatch):
    at = device(served, "covercalibrator")
    said = try_device(at).said
    assert said.has_cover and said.highest == 255
    cover, panel = building.cover_of(at, said), building.panel_of(at, said, None)
    assert cover.is_light
    cover.shut()
    panel.set_brightness(120)
    assert one(served, "covercalibrator").state == 1 and panel.brightness() == 120
    panel.set_brightness(0)
    cover.open()
    assert one(served, "covercalibrator").state == 3 and panel.brightness() == 0
    one(served, "covercalibrator").refuses = True
    monkeypatch.setattr(light, "COVER_S", 0.5)
    with pytest.raises(DeviceError, match="says that it is in error, so nothing was shot"):
        cover.shut()


@pytest.mark.parametrize("place", [(4.0, 185.0), (75.0, 20.0), (30.0, 271.0), (12.0, 90.5), (45.0, 0.0)])
def test_a_mount_that_is_sent_by_the_hour_angle_points_where_it_should_and_stands(served, place):
    at = device(served, "telescope")
    said = try_device(at).said
    assert not said.by_altitude and said.can_park
    mount = building.mount_of(at, said)
    mount.point(*place)
    altitude, azimuth = one(served, "telescope").where()
    assert altitude == pytest.approx(place[0], abs=0.01)
    assert (azimuth - place[1] + 180.0) % 360.0 == pytest.approx(180.0, abs=0.01)
    assert not one(served, "telescope").get_tracking(), "the stars wander, the panel does not"


def test_what_cannot_be_used_is_refused_with_the_reason(served, tmp_path):
    one(served, "telescope").slews = False
    with pytest.raises(DeviceError, match="cannot be sent anywhere by a program"):
        try_device(device(served, "telescope"))
    own = Own(tmp_path / "library")
    try:
        rig = own.client.post(
            "/api/rigs",
            json={"name": "One", "camera": "Otter 5", "telescope": "Lens", "focal_length_mm": 135},
        ).json["id"]
        refused = own.client.put(f"/api/rigs/{rig}/devices/focuser", json=served.chosen("focuser"))
        assert refused.status_code == 409 and "where it stands" in refused.text, refused.text
        taken = own.client.put(f"/api/rigs/{rig}/devices/camera", json=served.chosen("camera"))
        assert taken.status_code == 200, taken.text
        told = str(own.get(f"/api/rigs/{rig}/devices"))
        assert "ISO 100" in told and "ISO 800" in told
    finally:
        own.close()
