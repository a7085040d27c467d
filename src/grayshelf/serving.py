"""Serving a library to this machine: one’s own, or the demo’s."""

from __future__ import annotations

import json
import socket
import sys
import tempfile
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

import ifaddr
import segno
import waitress

from grayshelf.core.errors import GrayShelfError
from grayshelf.library.bench_frames import settle_measurements
from grayshelf.library.grouping import finish_recount
from grayshelf.library.library import Library
from grayshelf.library.over_restart import keep, put_back
from grayshelf.web.access.codes import Access, in_fours
from grayshelf.web.app import MOST_BODY_BYTES, create_app
from grayshelf.web.context import Context, make_context, make_runner
from grayshelf.web.warm_up import Asked, kept_beside, warm_up
from grayshelf.work.backups import NightlyBackup
from grayshelf.work.events import MOST_IN_NETWORK
from grayshelf.work.fetching_at_dawn import DawnFetch
from grayshelf.work.folder_watch import FolderWatch
from grayshelf.work.scan import find_own_files

HOST = "127.0.0.1"
#: Requests at once; each listening page holds one of them.
THREADS = 20
#: Connections at once, so that those which say nothing do not keep others out, and for how long one may say nothing.
MOST_CONNECTIONS, SILENCE_S = 1000, 30
#: A start waits so long for the slips.
WARM_S = 0.4


@dataclass(frozen=True)
class Lan:
    """That this network is served, too."""

    folders: bool = False
    """Whether folders may be named from elsewhere."""
    new_code: bool = False


#: Requests at once where phones watch, too.
LAN_THREADS = 64


def _names_in_network() -> tuple[str, ...]:
    """The addresses and names by which other machines of this network find this one; nothing is sent for it."""
    found = dict.fromkeys(_addresses())
    name = socket.gethostname().lower()
    if name and name != "localhost":
        found |= dict.fromkeys((name, f"{name.removesuffix('.local')}.local"))
    return tuple(found)


def _addresses() -> list[str]:
    found = []
    with suppress(OSError), socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as asking:
        # Of a datagram that is never sent, the system says from which address it would go.
        asking.connect(("192.0.2.1", 9))
        found.append(asking.getsockname()[0])
    with suppress(OSError):
        found += [ip.ip for adapter in ifaddr.get_adapters() for ip in adapter.ips if isinstance(ip.ip, str)]
    return [a for a in dict.fromkeys(found) if not a.startswith("127.")]


def _listen(port: int, lan: Lan | None = None) -> socket.socket:
    """Take the port, before any library is touched.

    Raises
    ------
    GrayShelfError
        Where it is in use.
    """
    listening = socket.socket()
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listening.bind(("" if lan else HOST, port))
        # Bound alone it is not taken: another process could bind it too.
        listening.listen()
    except (OSError, OverflowError) as error:
        listening.close()
        raise GrayShelfError(
            f"Port {port} cannot be had ({getattr(error, 'strerror', None) or error}), so nothing can be served there.",
            "Close what uses it, or name another --port.",
        ) from error
    return listening


def _open_to_network(context: Context, lan: Lan) -> None:
    """Let this network ask, with a code."""
    access = Access(context.library.root, _names_in_network, folders=lan.folders)
    if lan.new_code:
        access.renew_code()
    context.access = access
    context.broker.most_listeners = MOST_IN_NETWORK


def _say_where(access: Access, port: int) -> None:
    """On the screen where it was started: the addresses, the code, and the code as a picture."""
    code = in_fours(access.code)
    for name in access.addresses:
        print(f"This network finds it at http://{name}:{port}/")
    if not access.addresses:
        print("This machine is in no network just now.")
    print(f"The access code is {code}")
    if sys.stdout.isatty():
        segno.make(code, error="m").terminal(compact=True)


def _serve(context: Context, listening: socket.socket) -> None:
    app, asked = create_app(context), Asked()
    asked.put_around(app)
    warm_up(context, asked, WARM_S)
    interrupted = context.interrupted
    if interrupted:
        print(
            f"{interrupted} piece(s) of work were interrupted last time; Work, at the right edge of the page, shows them."
        )
    address = f"http://{HOST}:{listening.getsockname()[1]}/"
    context.library.lock.says(address)
    if context.access is not None:
        _say_where(context.access, listening.getsockname()[1])
    print(f"Gray Shelf is at {address}   (Ctrl+C ends it)", flush=True)
    nightly, watch = NightlyBackup(context.library), FolderWatch(context.library, context.runner)
    fetching = DawnFetch(context.library, context.runner)
    try:
        waitress.serve(
            app,
            sockets=[listening],
            threads=LAN_THREADS if context.access is not None else THREADS,
            ident=None,
            _quiet=True,
            connection_limit=MOST_CONNECTIONS,
            channel_timeout=SILENCE_S,
            cleanup_interval=5,
            asyncore_use_poll=True,
            # What is too large is refused by its announced length, before any of it is kept.
            max_request_body_size=MOST_BODY_BYTES,
            inbuf_overflow=2 * MOST_BODY_BYTES,
        )
    finally:
        watch.end()
        fetching.end()
        nightly.end()
        context.runner.shut_down()
        keep(context.library, kept_beside(context.library))
        context.library.close()


def open_context(library: Library) -> Context:
    """What the routes work with, for a library that was just opened; what was left unfinished is settled first."""
    try:
        runner, broker = make_runner(library)
        interrupted = runner.mark_interrupted()
        settle_measurements(library)
        finish_recount(library)
        was_put_back = put_back(library, kept_beside(library))
        context = make_context(library, runner, broker)
    except BaseException:
        library.close()
        raise
    runner.go_on_aside()
    context.interrupted, context.put_back = interrupted, was_put_back
    return context


def serve_own(folder: Path | None, new: bool, port: int, usual: Path, lan: Lan | None = None) -> None:
    """Serve a person's own library: the one that is named, else the usual one, which a first start begins."""
    named = folder or usual
    # Where none is named, the first start begins one; its folder's folder tells whether there was a first start.
    begin = new or (folder is None and not named.parent.exists() and not named.is_symlink())
    with _listen(port, lan) as listening:
        library = Library(named, begin=begin)
        if library.begun:
            print(f"A new library was begun in {library.root}")
        else:
            print(f"Your library is in {library.root}")
        if library.copied_to is not None:
            print(f"Its database was brought up to date; what it was before is kept in {library.copied_to}")
        context = open_context(library)
        if lan is not None:
            _open_to_network(context, lan)
        if find_own_files(context) is not None:
            print("It holds frames that its database does not know: they are being looked through.")
        _serve(context, listening)


def open_demo(folder: Path, size: str, rate: float, *, fresh: bool = False) -> Context:
    """Open the demo in a folder, making what is missing of it, or all of it anew."""
    # Loaded for the demo alone: one's own library starts without it.
    from grayshelf.demo.setup import KeptClock, demo_devices, make_room, prepare

    folder = folder.resolve()
    folder.mkdir(parents=True, exist_ok=True)
    make_room(folder, size, everything=fresh)
    clock = KeptClock(folder / "clock.json", rate)
    context = open_context(Library(folder / "library", clock))
    context.demo, context.fast_rate = True, rate
    context.starter.rigs.update(demo_devices(folder, clock, size))
    prepare(folder, size, context.library, context.runner)
    return context


def serve_demo(folder: Path, size: str, port: int, fresh: bool, rate: float, lan: Lan | None = None) -> None:
    """Serve the invented scenario."""
    with _listen(port, lan) as listening:
        context = open_demo(folder, size, rate, fresh=fresh)
        if lan is not None:
            _open_to_network(context, lan)
        print(f"The demo is an invented scenario; waits pass {rate:g} times as fast as real ones.")
        _serve(context, listening)


def write_openapi(out: Path) -> None:
    """Write the OpenAPI document of an empty library's application."""
    with tempfile.TemporaryDirectory() as folder:
        context = open_context(Library(Path(folder) / "library"))
        app = create_app(context)
        with app.app_context():
            document = app.spec
        context.library.close()
    out.parent.mkdir(parents=True, exist_ok=True)
    out.write_text(json.dumps(document, indent=1, sort_keys=True) + "\n")
