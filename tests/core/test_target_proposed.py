"""What lights may be of, by names of folders as people write them (common practice, no source)."""

from __future__ import annotations

import pytest

from grayshelf.core.frames.target_proposed import target_by_folders

NAMES = {
    "Veil West/Lights": ("Veil West", 1), "2024-08-10 - Andromeda (Ha)": ("Andromeda", 0), "Orion_Nebula/Session 1/raw": ("Orion Nebula", 2),
    "Heart & Soul/2024-01-02/L": ("Heart & Soul", 2), "Rosette 120s -10C gain100": ("Rosette", 0), "20240810_Veil-West_ISO800": ("Veil-West", 0),
    "Horsehead 135mm f2.8": ("Horsehead", 0), "Elephant's Trunk": ("Elephant's Trunk", 0), "Pleiades/Panel 2/Lights 300s": ("Pleiades", 2),
    "Nébuleuse du Crabe": ("Nébuleuse du Crabe", 0), "アンドロメダ": ("アンドロメダ", 0), "Comet 12P": ("Comet 12P", 0),
    "DCIM/100ABCDE": None, "10 Oct 2024/Lights": None, "user/Pictures/astro": None, "Heron 92/Lights": None, "OIII": None, "M7": None,
    "Lights_300s_-10C": None, "x" * 90: None, "12": None, "": None, "2024/03/iso1600 2x2": None, "May": None,
}  # fmt: skip


@pytest.mark.parametrize("path", NAMES)
def test_a_folder_s_name_without_when_how_and_with_what(path):
    assert target_by_folders(path.split("/")[::-1], ("Heron 92", None)) == NAMES[path]
