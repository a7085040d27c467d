"""Where a header may have the kind of a frame wrong: it lies in a folder that is named for another.

Programs write 'light' where nobody chose a kind, and 'dark' where they know no bias and no dark flat (common practice, no
source). The header stands until a person says otherwise: a folder may be named for what it once held.
"""

from __future__ import annotations

from collections.abc import Sequence

from grayshelf.core.frames.folder_names import kind_of_folder, kind_of_folders
from grayshelf.core.frames.kinds import FrameKind

#: By what a header says, what a frame may be all the same.
MAY_BE = {
    FrameKind.LIGHT: (FrameKind.FLAT, FrameKind.DARK, FrameKind.DARK_FLAT, FrameKind.BIAS),
    FrameKind.DARK: (FrameKind.DARK_FLAT, FrameKind.BIAS),
}
#: No bias is exposed for longer (common practice): longer darks among bias are darks.
LONGEST_BIAS_S = 1.0


def doubted_by_folder(told: FrameKind, folders: Sequence[str]) -> tuple[FrameKind, int] | None:
    """The kind for which the folder of a frame is named, where its header may be wrong, and which folder that is.

    Parameters
    ----------
    folders
        Names of the folders that it lies in, the nearest first (`folders_above`).

    Returns
    -------
    The kind, and the folder's place among these; None where there is no doubt.
    """
    kind, _ = kind_of_folders(folders)
    if kind is None or kind not in MAY_BE.get(told, ()):
        return None
    return kind, next(place for place, name in enumerate(folders) if kind_of_folder(name)[0] is not None)
