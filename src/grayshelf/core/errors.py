"""The errors a person can meet. Each says what happened, what it means and what to do."""

from __future__ import annotations

from pathlib import Path

from grayshelf.core.digits import file_size


class GrayShelfError(Exception):
    """Base of all errors that are told to a person.

    Parameters
    ----------
    message
        What happened and what it means for the frames, in plain words.
    advice
        What to do about it.
    """

    status = 400
    title = "That did not work"

    def __init__(self, message: str, advice: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.advice = advice


class NotFound(GrayShelfError):
    """Something that was asked for is not in the library."""

    status = 404
    title = "Not in the library"


class NotPermitted(GrayShelfError):
    """A path or an action outside what the user has opened to the application."""

    status = 403
    title = "Not opened to Gray Shelf"


class Conflict(GrayShelfError):
    """The thing asked for clashes with how things stand, or with what is going on."""

    status = 409
    title = "That cannot be done now"


class DiskFull(GrayShelfError):
    """There is no room for what is to be written. What was written before is safe.

    Parameters
    ----------
    where
        The folder on the disk that is full.
    needed_bytes
        How much must be free there to go on.
    """

    status = 507
    title = "The disk is full"

    def __init__(self, where: Path, needed_bytes: int) -> None:
        super().__init__(
            f"The disk of {where} is full: {file_size(needed_bytes)} are needed. What was written before is safe.",
            "Make room, then go on.",
        )
        self.where, self.needed_bytes = where, needed_bytes


class DiskOut(GrayShelfError):
    """Something is to go onto a disk that does not seem to be in."""

    status = 409
    title = "Its disk may not be in"


class FolderRefused(GrayShelfError):
    """A folder that cannot be put on the list."""

    status = 409
    title = "This folder cannot be added"


class UnreadableFrame(GrayShelfError):
    """A file is not a frame that can be read. Nothing was changed."""

    status = 422
    title = "This file cannot be read as a frame"


class DeviceError(GrayShelfError):
    """A device did not do what it was told."""

    status = 502
    title = "A device did not answer"


class CannotCombine(GrayShelfError):
    """A set cannot be made into a master."""

    status = 422
    title = "This set cannot be combined"


class LibraryUnusable(GrayShelfError):
    """A library cannot be opened. It was left as it was."""

    status = 409
    title = "This library cannot be opened"
