"""What was said of a rig's mount where it is driven: where the panel hangs, its horizon, what it does after flats."""

from __future__ import annotations

from dataclasses import asdict, fields
from typing import Any

from grayshelf.core.planning.pointing import AfterFlats, MountCard
from grayshelf.core.rigs.train import PartKind
from grayshelf.library.models import Rig


def mount_card(rig: Rig) -> MountCard:
    """As it was typed, and as usual where it was not."""
    typed = rig.parts.get(PartKind.MOUNT.value, {})
    known = {f.name: typed[f.name] for f in fields(MountCard) if typed.get(f.name) is not None}
    if "after" in known:
        known["after"] = AfterFlats(known["after"])
    return MountCard(**known)


def card_as_typed(values: dict[str, Any]) -> dict[str, Any]:
    """What is kept of a mount's sheet beside its name: what differs from the usual.

    Raises
    ------
    GrayShelfError
        Where a place cannot be.
    """
    wanted = {f.name: values[f.name] for f in fields(MountCard) if values.get(f.name) is not None}
    card = MountCard(**{**wanted, "after": AfterFlats(wanted.get("after", AfterFlats.STAY))})
    usual = asdict(MountCard())
    return {name: value for name, value in asdict(card).items() if value != usual[name]}


def card_as_read(rig: Rig) -> dict[str, Any]:
    """A mount's sheet beside its name."""
    return {**asdict(mount_card(rig)), "after": mount_card(rig).after.value}
