"""Routes of access: the code and its picture, for this machine alone, and the sessions."""

from __future__ import annotations

from datetime import UTC, datetime

import segno
from apiflask import APIBlueprint
from flask import g

from grayshelf.core.errors import Conflict, NotPermitted
from grayshelf.web.access.codes import Access, in_fours
from grayshelf.web.access.gate import from_this_machine
from grayshelf.web.common.schemas import Done, Schema
from grayshelf.web.context import the_context

api = APIBlueprint("access", __name__, url_prefix="/api", tag="Gray Shelf")


class SessionOut(Schema):
    """A browser that gave the code."""

    number: int
    name: str
    address: str
    since: str
    last: str
    is_this: bool


class AccessOut(Schema):
    """Whether this network is served, and to whom."""

    served: bool
    addresses: list[str]
    """Under which it is found there; empty where it is not served."""
    code: str
    """As it is shown; empty from elsewhere."""
    code_svg: str
    """The code as a QR picture, a data address; empty from elsewhere."""
    sessions: list[SessionOut]
    folders: bool
    """Whether folders may be named from elsewhere."""


def _access() -> Access:
    access = the_context().access
    if access is None:
        raise Conflict("This network is not served.", "Start Gray Shelf with --lan.")
    return access


def _when(moment_s: float) -> str:
    library = the_context().library
    with library.db.session() as session:
        zone = library.zone(session)
    return f"{datetime.fromtimestamp(moment_s, UTC).astimezone(zone):%-d %b %Y, %H:%M}"


def _kind_of(agent: str) -> str:
    """'Firefox on Android': what a browser says that it is, shortly."""
    system = next((s for s in ("iPhone", "iPad", "Android", "Windows", "Mac OS", "Linux") if s in agent), "")
    known = (("Firefox/", "Firefox"), ("Edg/", "Edge"), ("Chrome/", "Chrome"), ("Safari/", "Safari"))
    browser = next(
        (name for sign, name in known if sign in agent), agent.partition("/")[0][:30] or "A browser"
    )
    return f"{browser} on {system}" if system else browser


@api.get("/access")
@api.output(AccessOut)
def get_access() -> AccessOut:
    """Whether this network is served, and to whom."""
    access = the_context().access
    if access is None:
        return AccessOut(served=False, addresses=[], code="", code_svg="", sessions=[], folders=False)
    here = from_this_machine()
    code = in_fours(access.code)
    return AccessOut(
        served=True,
        addresses=list(access.addresses),
        code=code if here else "",
        code_svg=segno.make(code, error="m").svg_data_uri(scale=4, border=2, dark="#1f1e1b", light="#fff")
        if here
        else "",
        sessions=[
            SessionOut(
                number=s.number,
                name=_kind_of(s.name),
                address=s.address,
                since=_when(s.since_s),
                last=_when(s.last_s),
                is_this=s.number == g.get("session"),
            )
            for s in access.sessions()
        ],
        folders=access.folders,
    )


@api.delete("/access/sessions/<int:number>")
@api.output(Done)
def end_session(number: int) -> Done:
    """End a session, everywhere and at once."""
    _access().end(number)
    the_context().broker.publish("state")
    return Done(message="It has ended: the code is asked for again there.")


@api.post("/access/code")
@api.output(Done)
def renew_code() -> Done:
    """Make another code; all sessions end."""
    access = _access()
    if not from_this_machine():
        raise NotPermitted("Another code is made at the machine itself.", "Ask there.")
    access.renew_code()
    the_context().broker.publish("state")
    return Done(message="There is another code; every session has ended.")
