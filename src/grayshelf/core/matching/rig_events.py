"""What something done to a rig puts an end to: flats that fit, settings that were found, a panel's curve."""

from __future__ import annotations

from enum import StrEnum


class RigEventKind(StrEnum):
    """What was done to a rig."""

    TRAIN = "train"
    """Turned, or taken apart and put together."""
    SPACING = "spacing"
    """A distance in the train was changed, and with it the light that reaches the sensor."""
    PANEL = "panel"
    """Another panel, maybe under the name of the one before."""
    DRIVER = "driver"
    """The camera is driven otherwise: its levels may lie elsewhere."""

    @property
    def ends_flats(self) -> bool:
        """Whether flats from before no longer fit: the shadows of the train moved. A panel moves none."""
        return self in (RigEventKind.TRAIN, RigEventKind.SPACING)

    @property
    def unsettles_exposures(self) -> bool:
        """Whether an exposure found before is not to be trusted. A camera that was turned changes none."""
        return self is not RigEventKind.TRAIN

    @property
    def ends_panel_curve(self) -> bool:
        """Whether a panel's measured curve ends: only another panel follows another curve."""
        return self is RigEventKind.PANEL


#: What is often done to a rig: its kind, a label, and what is entered.
USUAL_EVENTS = (
    (RigEventKind.PANEL, "Another panel", "another panel"),
    (RigEventKind.SPACING, "Re-spaced", "the spacing was changed"),
    (RigEventKind.DRIVER, "Camera driver", "another camera driver"),
    (RigEventKind.TRAIN, "Turned or taken apart", "the camera was turned"),
    (RigEventKind.TRAIN, "Cleaned", "cleaned"),
    (RigEventKind.TRAIN, "Collimated", "collimated"),
)
