"""The time zone of this machine, with which a new library begins: most people keep their frames where they live."""

from __future__ import annotations

import logging
import warnings

import tzlocal

from grayshelf.core.errors import GrayShelfError
from grayshelf.core.frames.night import site_zone

log = logging.getLogger(__name__)


def machine_zone() -> str:
    """Its name, e.g. 'Europe/London'; 'UTC' where the machine does not tell."""
    try:
        with warnings.catch_warnings():
            # It warns where two files of a machine tell different zones, and takes one.
            warnings.simplefilter("ignore")
            name = tzlocal.get_localzone_name()
        return "UTC" if name == "Etc/UTC" else site_zone(name).key
    except (GrayShelfError, LookupError, OSError, ValueError, TypeError) as error:
        log.info("the time zone of this machine is not known (%s): UTC is taken", error)
        return "UTC"
