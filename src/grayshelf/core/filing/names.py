"""Names for frames and folders that are legal on every system and can be grouped by any program."""

from __future__ import annotations

import re
import unicodedata
from datetime import date

from grayshelf.core.frames.facts import FrameFacts, uses_iso
from grayshelf.core.frames.kinds import FrameKind

_RESERVED = re.compile(r"^(con|prn|aux|nul|com\d|lpt\d)$", re.IGNORECASE)


def is_reserved(name: str) -> bool:
    """Whether Windows keeps a name for a device: 'con', 'LPT1'."""
    return _RESERVED.match(name) is not None


def safe_name(text: str) -> str:
    """A part of a path that is legal on every system: plain letters, digits, '.', '-', '_'."""
    plain = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode()
    plain = re.sub(r"[^A-Za-z0-9._-]+", "_", plain.strip()).strip("._") or "unnamed"
    return f"{plain}_" if is_reserved(plain) else plain[:80]


def _signed(value: float) -> str:
    return f"{value:+.0f}" if value else "0"


def frame_stem(facts: FrameFacts) -> str:
    """The settings that matter for a frame of this kind, for use in names: 'flat_SII_7.4s_g200_o30_bin1', 'dark_60s_ISO1600_bin1'."""
    parts = [safe_name(facts.kind.value if facts.kind else "frame").replace("_", "")]
    if facts.kind in (FrameKind.FLAT, FrameKind.LIGHT) and facts.filter_code:
        parts.append(safe_name(facts.filter_code))
    if facts.of_sky:
        parts.append("sky")
    elif facts.exposure_s is not None and facts.kind is not FrameKind.BIAS:
        parts.append(f"{facts.exposure_s:g}s")
    temp = facts.set_temp_c if facts.set_temp_c is not None else facts.sensor_temp_c
    if facts.kind in (FrameKind.DARK, FrameKind.BIAS) and temp is not None:
        parts.append(f"{_signed(temp)}C")
    # Headers that call it ISO are those of cameras whose people do.
    gain = "ISO" if uses_iso((), {facts.origins.get("gain")}) else "g"
    for word, value in ((gain, facts.gain), ("o", facts.offset)):
        if value is not None:
            parts.append(f"{word}{value:g}")
    parts.append(f"bin{facts.binning_x or 1}")
    return "_".join(parts)


def night_folder(camera: str, night: date) -> str:
    """Where the frames of a night go, below the library's folder: 'frames/Dunlin_M24/2026-10-18'."""
    return f"frames/{safe_name(camera)}/{night.isoformat()}"


def frame_place(facts: FrameFacts, night: date) -> str:
    """Folder and first part of the name of a series: 'frames/Dunlin_M24/2026-10-18/flat/flat_SII_7.4s_g200_o30_bin1'."""
    kind = re.sub(r"[^a-z]", "", facts.kind.value if facts.kind else "frame")
    return f"{night_folder(facts.camera or 'camera', night)}/{kind}/{frame_stem(facts)}"


def master_name(facts: FrameFacts, n_frames: int) -> str:
    """The name of a master: 'master_flat_SII_7.4s_g200_o30_bin1_2026-10-18_25'."""
    night = facts.night.isoformat() if facts.night else "undated"
    return f"master_{frame_stem(facts)}_{night}_{n_frames}"
