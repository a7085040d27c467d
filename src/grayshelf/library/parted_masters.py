"""Masters of sets that were parted after they were combined: that some of their frames belong to another set now is told."""

from __future__ import annotations

from collections.abc import Collection

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from grayshelf.library.kept import in_parts
from grayshelf.library.models import Frame, FrameSet, MasterInput, MasterRecord

#: How the sentence ends: by it, what was told before is known again.
_TOLD = "to another set now: combine it anew"


def tell_what_left(session: Session, set_ids: Collection[int]) -> None:
    """Let the masters of sets tell how many of the frames that they were made of belong to another set; where none does any
    more, nothing."""
    for part in in_parts(sorted(set_ids)):
        combined = FrameSet.id.in_(part) & FrameSet.master_set_id.is_not(None)
        masters = session.scalars(
            select(MasterRecord).join(FrameSet, FrameSet.master_set_id == MasterRecord.set_id).where(combined)
        ).all()
        if not masters:
            continue
        left = (
            select(FrameSet.master_set_id, func.count())
            .join(MasterInput, MasterInput.master_id == FrameSet.master_set_id)
            .join(Frame, Frame.id == MasterInput.frame_id)
            .where(combined, MasterInput.used, Frame.set_id.is_not(None), Frame.set_id != FrameSet.id)
            .group_by(FrameSet.master_set_id)
        )
        counts = {master: count for master, count in session.execute(left)}  # noqa: C416 - rows are no pairs to mypy
        for record in masters:
            others = [told for told in record.care if not str(told).endswith(_TOLD)]
            count = counts.get(record.set_id, 0)
            care = (
                [
                    *others,
                    f"{count} of the frames that it was made of belong{'s' if count == 1 else ''} {_TOLD}",
                ]
                if count
                else others
            )
            if care != record.care:
                record.care = care
