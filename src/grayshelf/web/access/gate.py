"""The gate before all routes: this machine asks as it always did, others with the session that the code gave them."""

from __future__ import annotations

import ipaddress
from html import escape

from apiflask import APIFlask
from flask import Response, g, request

from grayshelf.library.folders import naming_folders
from grayshelf.web.access.codes import Access, TooMany
from grayshelf.web.errors import problem

#: Where the code is sent to.
CODE_TO = "/access"
_KEPT_S = 60 * 86_400
#: Longer than any code that is typed.
_MOST_TYPED = 200


def cookie_name() -> str:
    """A cookie is sent to every port of a machine: each library has its own."""
    return f"grayshelf-{request.host.rpartition(':')[2] if ':' in request.host else '80'}"


def from_this_machine() -> bool:
    """Whether a request comes from this machine."""
    try:
        return ipaddress.ip_address(request.remote_addr or "").is_loopback
    except ValueError:
        return False


def gate(app: APIFlask, access: Access) -> None:
    """Let nobody from elsewhere ask without a session."""

    @app.before_request
    def only_with_the_code() -> Response | None:
        if from_this_machine():
            return None
        if request.path == CODE_TO and request.method == "POST":
            return _code_given(access)
        g.session = access.session_of(request.cookies.get(cookie_name()))
        if g.session is not None:
            if not access.folders:
                naming_folders.set(False)
            return None
        if request.path.startswith("/api/"):
            return problem(
                401, "The code is asked for", "This session has ended, or never began.", "Give the code."
            )
        return _page("")

    @app.teardown_request
    def forget(_: BaseException | None) -> None:
        naming_folders.set(True)


def _code_given(access: Access) -> Response:
    code = request.form.get("code", "") if (request.content_length or 0) <= _MOST_TYPED else ""
    agent = request.headers.get("User-Agent", "")
    try:
        token = access.begin(code, request.remote_addr or "", agent)
    except TooMany as wait:
        seconds = max(int(wait.args[0]) + 1, 1)
        answer = _page(f"Too many wrong codes came from here. Try again in {seconds} s.", 429)
        answer.headers["Retry-After"] = str(seconds)
        return answer
    if token is None:
        return _page("That is not the code. It stands where Gray Shelf was started, and on Rigs there.", 403)
    answer = Response(status=303, headers={"Location": "/"})
    answer.set_cookie(
        cookie_name(), token, max_age=_KEPT_S, httponly=True, samesite="Strict", secure=request.is_secure
    )
    return answer


def _page(said: str, status: int = 200) -> Response:
    """The page that asks for the code: all that is told to whoever has none."""
    told = f'<p role="alert">{escape(said)}</p>' if said else ""
    answer = Response(_HTML.replace("SAID", told), status, mimetype="text/html")
    answer.headers["Cache-Control"] = "no-store"
    # Without a referrer at all a browser sends its form as of no page, which is refused.
    answer.headers["Referrer-Policy"] = "same-origin"
    return answer


_HTML = """<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Gray Shelf</title>
<meta name="viewport" content="width=device-width, initial-scale=1"><meta name="robots" content="noindex"><style>
:root{color-scheme:light dark;--p:#eeeae5;--i:#1f1e1b;--s:#5d5a54;--r:#7a766f;--c:#fcfbf7;--a:#b5441c;--t:#fff}
@media(prefers-color-scheme:dark){:root{--p:#1f1b18;--i:#cda882;--s:#a08668;--r:#6a5745;--c:#2e2621;--a:#e0683c;--t:#1f1b18}}
body{margin:0;background:var(--p);color:var(--i);font:17px/1.45 system-ui,sans-serif}
main{max-width:22rem;margin:14vh auto 0;padding:0 1.25rem}h1{font-size:1.6rem;margin:0 0 .4rem}
p{margin:.2rem 0 1rem}label{display:block;color:var(--s);margin-bottom:.3rem}
input{box-sizing:border-box;width:100%;height:56px;padding:0 .75rem;border:1px solid var(--r);border-radius:3px;
background:var(--c);color:var(--i);font:22px ui-monospace,monospace;letter-spacing:.06em;text-transform:uppercase}
button{width:100%;height:56px;margin-top:.75rem;border:0;border-radius:3px;background:var(--a);color:var(--t);
font:600 18px system-ui,sans-serif}:focus-visible{outline:3px solid var(--i);outline-offset:2px}
[role=alert]{border-left:4px solid var(--a);padding-left:.7rem}</style></head><body><main><h1>Gray Shelf</h1>
<p>The code stands where it was started, and on Rigs there.</p>SAID
<form method="post" action="/access"><label for="code">Access code</label><input id="code" name="code" required
autofocus autocomplete="one-time-code" autocapitalize="characters" spellcheck="false" placeholder="XXXX-XXXX-XXXX"
maxlength="40"><button>Open it</button></form></main></body></html>"""
