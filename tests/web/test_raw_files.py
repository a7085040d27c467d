"""Camera raw files and TIFF: the sensor's own values, in the phase that the sensor has, from an empty library to a slip."""

from __future__ import annotations

import math
import os
import signal
from contextlib import suppress
from pathlib import Path

import numpy as np
import pytest
import rawpy
import tifffile
from PIL import Image

from grayshelf.core.errors import UnreadableFrame
from grayshelf.core.frames import headers, sets
from grayshelf.core.frames.folder_names import kind_of_folder, kind_of_folders
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.matching.model import CommonSettings
from grayshelf.library import foreign_formats
from grayshelf.library.file_rows import middle_rows
from grayshelf.library.files import read_header, read_pixels
from grayshelf.library.grouping import LONG_ANEW
from grayshelf.library.shelf_levels import pedestal_level
from grayshelf.work import scan
from tests.raw_files import MARGIN, PHASES, write_dng, write_tiff

RNG = np.random.default_rng(7)


def some_pixels(level=2000, size=(60, 90)):
    return RNG.normal(level, 30, size).astype(np.uint16)


@pytest.mark.parametrize("phase", PHASES)
@pytest.mark.parametrize("orientation", [1, 3, 6, 8])
def test_values_margins_and_phase_are_the_sensor_s_whatever_way_it_was_held(tmp_path, phase, orientation):
    pixels = some_pixels()
    path = tmp_path / "a.dng"
    whole = write_dng(path, pixels, phase, orientation)
    image, read = read_header(path), read_pixels(path)
    with rawpy.imread(str(path)) as raw:
        # The reference: LibRaw's own unprocessed array, and its own word on the colour of each pixel.
        assert np.array_equal(read, raw.raw_image_visible) and np.array_equal(raw.raw_image, whole)
        letters = np.array(list(raw.color_desc.decode()))[raw.raw_colors_visible]
        assert image.header["SATURATE"] == raw.white_level == 16_383
    assert np.array_equal(read, pixels) and read.dtype == np.uint16
    assert (image.width, image.height) == (90, 60) and MARGIN != (0, 0)
    side = math.isqrt(len(phase))
    assert image.header["BAYERPAT"] == phase == "".join(letters[:side, :side].ravel())
    assert np.array_equal(middle_rows(path, 8), pixels[26:34])


@pytest.mark.parametrize("packed", ["raw", "packbits", "tiff_lzw", "tiff_adobe_deflate", "zstd", "lzma"])
@pytest.mark.parametrize("predictor", [1, 2])
def test_tiff_is_read_however_it_is_packed(tmp_path, packed, predictor):
    """TIFF 6.0: LZW, with differences of neighbours or without, is what most programs write where nobody chose otherwise."""
    pixels, path = some_pixels(), tmp_path / "a.tif"
    pixels[0, :2] = 0, 65535
    takes_predictor = packed in ("tiff_lzw", "tiff_adobe_deflate")
    more = {"tiffinfo": {317: predictor}} if takes_predictor else {}
    Image.fromarray(pixels).save(path, compression=packed, **more)
    read = read_pixels(path)
    assert np.array_equal(read, pixels) and read.dtype == np.uint16
    assert (read_header(path).width, read_header(path).height) == (90, 60)


def test_what_is_no_frame_is_refused_and_nothing_falls_over(tmp_path):
    good = tmp_path / "good.dng"
    write_dng(good, some_pixels())
    data = good.read_bytes()
    files = {
        "empty.dng": b"",
        "text.cr2": b"x" * 5000,
        "cut.dng": data[: len(data) // 2],
        "notiff.tif": b"II" + b"\0" * 90,
    }
    for name, content in files.items():
        (tmp_path / name).write_bytes(content)
    tifffile.imwrite(tmp_path / "colour.tif", np.zeros((40, 40, 3), np.uint16), photometric="rgb")
    tifffile.imwrite(tmp_path / "float.tif", np.zeros((40, 40), np.float32))
    tifffile.imwrite(tmp_path / "thin.tif", np.zeros((2, 40), np.uint16))
    tifffile.imwrite(tmp_path / "several.tif", np.zeros((3, 40, 40), np.uint16), photometric="minisblack")
    whole = tmp_path / "whole.tif"
    write_tiff(whole, some_pixels())
    (tmp_path / "cut.tif").write_bytes(whole.read_bytes()[:4000])
    for name in (*files, "colour.tif", "float.tif", "thin.tif", "several.tif", "cut.tif"):
        with pytest.raises(UnreadableFrame) as refused:
            read_header(tmp_path / name)
        assert refused.value.message and refused.value.advice, name
    # A small picture of the first behind it is no second frame.
    with tifffile.TiffWriter(tmp_path / "small.tif") as tiff:
        tiff.write(np.full((40, 40), 9, np.uint16))
        tiff.write(np.zeros((20, 20), np.uint16), subfiletype=1)
    assert (read_pixels(tmp_path / "small.tif") == 9).all()
    # Bytes turned at random: told or read, and the next file is read as if nothing was.
    for seed in range(25):
        rng = np.random.default_rng(seed)
        turned = bytearray(data)
        for at in rng.integers(0, 700, 12):
            turned[at] = rng.integers(0, 256)
        (tmp_path / "turned.dng").write_bytes(turned)
        with suppress(UnreadableFrame):
            read_pixels(tmp_path / "turned.dng")
        assert read_header(good).width == 90
    # The process that reads is killed in the middle of it: it is begun anew for the next file.
    process = next(iter(foreign_formats._pool._processes.values()))
    os.kill(process.pid, signal.SIGKILL)
    process.join()
    with pytest.raises(UnreadableFrame, match="fell over"):
        read_pixels(good)
    assert np.array_equal(read_pixels(good).shape, (60, 90))


def test_a_folder_s_name_tells_the_kind_only_where_it_is_named_for_it():
    told = {"darks": FrameKind.DARK, "Flat_Darks": FrameKind.DARK_FLAT, "FLATS": FrameKind.FLAT, "darks_300s_-10C": FrameKind.DARK,
            "master bias": FrameKind.BIAS, "lights": FrameKind.LIGHT, "Dark Nebula LDN 1": None, "dark_nebula": None, "M 33": None,
            "flats and darks": None, "": None, "2026-10-18": None}  # fmt: skip
    assert {name: kind_of_folder(name)[0] for name in told} == told


def test_a_consumer_camera_from_an_empty_library_to_masters_and_a_slip(own, tmp_path):
    night = tmp_path / "night"
    for i in range(8):
        at = f"2026:10:18 22:{i:02d}:00"
        write_dng(night / f"lights/IMG_{i:04d}.dng", some_pixels(1200), local=at)
        write_dng(night / f"darks/IMG_{i + 100:04d}.dng", some_pixels(520), local=at.replace("22:", "23:", 1))
        write_dng(
            night / f"flats/IMG_{i + 200:04d}.dng",
            some_pixels(8000),
            exposure_s=0.5,
            local=at.replace("22:", "20:", 1),
        )
        write_tiff(night / f"bias/B{i}.tif", some_pixels(515), local=at.replace("22:", "21:", 1))
    own.client.put("/api/site", json={"name": "Mesa", "time_zone": "America/Denver"})
    assert own.scan(night)["state"] == "done"
    sets = {s["kind"]: s for s in own.sets().values()}
    assert {k: (s["n_frames"], s["night"]) for k, s in sets.items()} == dict.fromkeys(
        ("light", "dark", "flat", "bias"), (8, "18 Oct 26")
    )
    assert "ISO 800" in sets["dark"]["title"] and sets["dark"]["camera"] == "Plover P6"
    job = own.build()
    assert (
        job["state"] == "done"
        and len(job["troubles"]) == 1
        and "No dark flat of 0.5\u2009s" in job["troubles"][0]
    ), job
    slip = own.get(f"/api/lights/{sets['light']['id']}/slip")
    lines = {x["kind"]: x for x in slip["lines"]}
    dark = lines["dark"]
    assert dark["verdict"] == "fits with care" and "temperature is not known" in dark["chosen"]["reasons"], (
        dark
    )
    assert lines["flat"]["verdict"] != "nothing fits"
    # A camera with ISO has no offset, and its raw values are of single pixels: neither is in doubt, nor asked.
    # What only folders' names say is no doubt of a master of frames that agree, either.
    assert not any(
        "name" in reason for x in lines.values() if x["chosen"] for reason in x["chosen"]["reasons"]
    )
    doubts = {reason for x in lines.values() for c in [x["chosen"]] if c for reason in c["reasons"]}
    assert not doubts & {"offset is not known", "binning is not known"}
    assert not {q["quantity"] for q in slip["questions"]} & {"offset", "binning"}
    tonight = own.get("/api/rigs/1/tonight")
    assert [o["title"] for o in tonight["offers"] if o["on_sheet"]] == ["Dark flat 0.5\u2009s, ISO 800"]
    fill = own.get("/api/rigs/1/fill")
    assert [b["title"] for b in fill["bias"]] == ["Bias, ISO 800"] and fill["not_now"] == ""
    # The master is the frames' mean, pixel by pixel.
    path = own.query("SELECT path FROM frame WHERE path LIKE 'masters/%dark%'")[0][0]
    mean = np.mean([read_pixels(p) for p in sorted((night / "darks").iterdir())], axis=0)
    assert abs(np.mean(read_pixels(own.root / path) - mean)) < 0.5
    # They are looked at, handed over under names that keep their endings, and filed.
    frame = own.query("SELECT id FROM frame WHERE path LIKE 'lights/%' ORDER BY path")[0][0]
    assert own.client.get(f"/api/frames/{frame}/preview.png").status_code in (200, 404)
    out = own.get(f"/api/hand-over?sets={sets['light']['id']}&form=raw%20frames")
    names = [f["path"] for f in out["files"]]
    assert names and all(n.endswith((".dng", ".tif")) for n in names), names[:3]


#: As a remote release times them that counts seconds on its own (common practice, no source).
BY_HAND_S = (180, 181, 180, 179, 181, 180, 180, 181)


def of_a_hand(heap: Path) -> Path:
    """Frames as people sort them who have no program that does: by kind, and within by target, night and settings."""
    for i, seconds in enumerate(BY_HAND_S):
        at = f"2026:10:10 22:{4 * i:02d}:00"
        write_dng(heap / f"Oct/Lights/M 31/IMG_{i}.dng", some_pixels(2100 + i), exposure_s=seconds, local=at)
        at = at.replace("10:10", "10:11")
        write_dng(
            heap / f"Library/Darks/ISO800/180s/IMG_{i}.dng", some_pixels(520), exposure_s=seconds, local=at
        )
        write_dng(heap / f"Library/Offsets/ISO800/IMG_{i}.dng", some_pixels(512), exposure_s=0.001, local=at)
        at = at.replace("22:", "20:", 1)
        write_dng(heap / f"Library/Darks/ISO800/185s/IMG_{i}.dng", some_pixels(521), exposure_s=185, local=at)
    return heap


def by_kind_and_exposure(own) -> list[tuple]:
    return own.query(
        "SELECT kind, json_extract(facts, '$.exposure_s'), n_frames FROM frame_set ORDER BY kind, 2"
    )


IN_SETS = [("bias", 0.001, 8), ("dark", 180.0, 8), ("dark", 185.0, 8), ("light", 180.0, 8)]


def test_long_exposures_that_were_timed_by_hand_are_one_set_wherever_their_folders_are_named_for_it(
    own, tmp_path
):
    own.scan(of_a_hand(tmp_path / "heap"))
    assert by_kind_and_exposure(own) == IN_SETS
    assert {(s["names_say"], *s["from_name"]) for s in own.sets().values() if s["kind"] == "dark"} == {
        ("agree", "dark")
    }
    assert own.query("SELECT DISTINCT json_extract(facts, '$.target') FROM frame WHERE kind = 'light'") == [
        ("M 31",)
    ]
    assert "Lacks sensor temperature; from the name of the file or its folder: kind of frame, target." in str(
        own.problems()
    )
    light = next(s["id"] for s in own.sets().values() if s["kind"] == "light")
    dark = next(x for x in own.get(f"/api/lights/{light}/slip")["lines"] if x["kind"] == "dark")
    assert dark["chosen"]["title"].startswith("Dark 180"), dark["chosen"]


def test_a_camera_of_fourteen_bits_is_full_where_its_files_say(own, tmp_path):
    heap = of_a_hand(tmp_path / "heap")
    for i in range(12):
        full, at = i // 6, f"2026:10:10 23:00:{i:02d}"
        pixels = np.minimum(some_pixels(7_400 if not full else 16_600), 16_383)
        write_dng(heap / f"Oct/Flats{full}/IMG_{i}.dng", pixels, exposure_s=0.01 * (1 + full), local=at)
    own.scan(heap)
    row = own.get("/api/rigs/1/flats")["rows"][0]
    assert row["target"] == "7,372\u2009ADU" and row["target_more"].startswith("45 % of the range")
    # Its bias is the pedestal of the search, though no frame names an offset.
    row_of_it = CommonSettings("Plover P6", 90, 60, (1, 1), gain=800.0, offset=0.0)
    pedestal = pedestal_level(own.library, row_of_it)
    assert pedestal is not None and abs(pedestal.adu - 512) < 3 and pedestal.known_from.startswith("bias")
    light = next(s["id"] for s in own.sets().values() if s["kind"] == "light")
    flat = next(x for x in own.get(f"/api/lights/{light}/slip")["lines"] if x["kind"] == "flat")
    told = [flat["chosen"], *flat["runners_up"]]
    full = ["their pixels are full: what light they held is lost" in c["reasons"] for c in told]
    assert full == [False, True] and told[1]["lost_on"].startswith("their pixels are full"), told


def test_flats_at_another_stop_of_the_lens_are_none_for_its_lights(own, tmp_path):
    heap = tmp_path / "heap"
    for i in range(5):
        at = f"2026:10:10 22:{4 * i:02d}:00"
        write_dng(
            heap / f"lights/M 31/IMG_{i}.dng",
            some_pixels(2100 + i),
            exposure_s=60,
            local=at,
            lens=(50.0, 4.0),
        )
        for stop, hour in ((2.8, "20"), (4.0, "21")):
            write_dng(
                heap / f"flats/{stop}/IMG_{i}.dng", some_pixels(7000 + i), exposure_s=0.5,
                local=at.replace(" 22:", f" {hour}:"), lens=(50.0, stop),
            )  # fmt: skip
    own.scan(heap)
    sets = {(s["kind"], s["title"].rpartition(", ")[2]): s for s in own.get("/api/sets")["items"]}
    assert set(sets) == {("light", "f/4"), ("flat", "f/2.8"), ("flat", "f/4")}

    parts = own.get("/api/rigs/1")["parts"]
    assert "50 mm" in str(parts) and ("17.86 mm f/2.8" in str(parts) or "12.5 mm f/4" in str(parts)), parts

    def of_flats():
        slip = own.get(f"/api/lights/{sets['light', 'f/4']['id']}/slip")
        assert slip["title"].endswith("f/4")
        return next(line for line in slip["lines"] if line["kind"] == "flat")

    line = of_flats()
    assert (
        line["chosen"]["title"].startswith("Flat, f/4")
        and "f/2.8, not f/4" in line["runners_up"][0]["lost_on"]
    )
    own.client.post(f"/api/holdings/{sets['flat', 'f/4']['id']}/shelve/off")
    assert of_flats()["verdict"] == "nothing fits"
    for i in range(3):
        at = f"2026:10:10 23:{4 * i:02d}:00"
        write_dng(
            heap / f"lights/M 31/W_{i}.dng", some_pixels(2100), exposure_s=60, local=at, lens=(50.0, 8.0)
        )
    own.scan(heap)
    keys = [
        offer["key"] for offer in own.get("/api/rigs/1/tonight")["offers"] if offer["key"].startswith("flat:")
    ]
    assert sorted(key.rpartition(":")[2] for key in keys) == ["f/4", "f/8"], (
        "one stop's flats do not serve the other"
    )
    shelf_gaps = own.get("/api/rigs/1/shelf")["flats"]["gaps"]
    assert sorted(gap["title"].rpartition(", ")[2] for gap in shelf_gaps) == ["f/4", "f/8"]


def test_what_an_older_version_made_many_sets_of_is_joined_and_what_it_did_not_know_the_kind_of_is_read_anew(
    own, tmp_path, monkeypatch
):
    heap = of_a_hand(tmp_path / "heap")
    with monkeypatch.context() as before:
        before.setattr(sets, "may_be_timed_by_hand", lambda facts: False)
        before.setattr(headers, "kind_of_folders", lambda names: kind_of_folder(names[0]))
        before.setattr(scan, "rules_in_force", lambda: "as before")
        own.scan(heap)
        assert by_kind_and_exposure(own) == []
        before.setattr(headers, "kind_of_folders", kind_of_folders)
        before.setattr(scan, "rules_in_force", lambda: "as before, too")
        own.scan(heap)
        assert [n for kind, _, n in by_kind_and_exposure(own) if kind == "light"] == [1, 4, 3]
        own.build()
    # As its migration notes it.
    own.change(f"INSERT INTO setting (key, value) VALUES ('{LONG_ANEW}', '{{\"due\": true}}')")
    own.again()
    apart = "SELECT kind, json_extract(facts, '$.exposure_s'), n_frames FROM frame_set WHERE NOT is_master"
    assert sorted(own.query(apart)) == IN_SETS
    # The master of some of them says so, and is combined anew of all.
    query = "SELECT master_set_id FROM frame_set WHERE kind = 'dark' AND json_extract(facts, '$.exposure_s') = 180"
    master = own.query(f"{query} AND NOT is_master")[0][0]
    assert own.get(f"/api/holdings/{master}")["inputs_note"] == "4 of 4 used; 4 more came to their set since"
    grown = [one for one in own.get("/api/sets")["items"] if one["come_since"]]
    assert {one["kind"]: one["come_since"] for one in grown}["dark"] == 4 and not any(
        one["can_build"] for one in grown
    )
    whole = [
        one["id"] for one in own.get("/api/sets")["items"] if one["state"] == "combined" and one not in grown
    ]
    assert own.client.post("/api/builds", json={"set_ids": whole}).status_code == 409, "nothing came to them"
    own.ended(own.client.post("/api/builds", json={"set_ids": [one["id"] for one in grown]}).json["id"])
    left = [one for one in own.get("/api/sets")["items"] if one["come_since"]]
    assert left == [], [(j["title"], j["state"], j["message"]) for j in own.get("/api/jobs")["ended"]]
    anew = own.get(f"/api/holdings/{own.query(f'{query} AND NOT is_master')[0][0]}")
    assert anew["inputs_note"] == "8 of 8 used"
