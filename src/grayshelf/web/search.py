"""The search in the rail: frames, nights, targets and masters by a word."""

from __future__ import annotations

from sqlalchemy import or_, select

from grayshelf.library.library import Library
from grayshelf.library.models import Frame, FrameSet
from grayshelf.library.shelf import gain_word
from grayshelf.web import schemas as s
from grayshelf.web.views import words as w
from grayshelf.web.views.intake import set_title

MOST = 12


def find(library: Library, text: str) -> list[s.FoundOut]:
    """What matches all words of `text`, sets first, then single frames."""
    words = [word.lower() for word in text.split() if word][:6]
    if not words:
        return []
    found: list[s.FoundOut] = []
    with library.db.session() as session:
        for row in session.scalars(select(FrameSet).order_by(FrameSet.night.desc(), FrameSet.id)):
            night = row.night.strftime("%-d %B %Y %b %Y-%m-%d") if row.night else ""
            kind = "master " if row.is_master else ""
            title = set_title(row, gain_word(library, row.camera or ""))
            hay = f"{kind}{row.kind} {title} {row.camera or ''} {night}".lower().replace("\u2009", " ")
            if not all(word in hay for word in words):
                continue
            light = row.kind == "light"
            href = f"/nights/{row.night}?set={row.id}" if light and row.night else f"/shelf?pull={row.id}"
            what = "lights" if light else f"{kind}{row.kind}"
            if row.taken_off:
                what = f"off the shelf, {what}"
            found.append(
                s.FoundOut(
                    kind=what,
                    title=title,
                    detail=f"{w.several(row.n_frames, 'frame')}, {w.day(row.night)}",
                    href=href,
                )
            )
            if len(found) >= MOST:
                return found
        for frame in session.scalars(
            select(Frame)
            .where(
                *[Frame.path.icontains(word, autoescape=True) for word in words], or_(Frame.state != "gone")
            )
            .order_by(Frame.path)
            .limit(MOST - len(found))
        ):
            light = frame.kind == "light"
            if frame.set_id is None:
                href = "/intake"
            else:
                href = f"/nights/{frame.night}?set={frame.set_id}" if light else f"/shelf?pull={frame.set_id}"
            found.append(
                s.FoundOut(kind="file", title=frame.path.rsplit("/", 1)[-1], detail=frame.state, href=href)
            )
    return found
