"""The command line: serve one's own library, serve the demo, and what a script would want."""

from __future__ import annotations

import argparse
import json
import logging
import shutil
import socket
import sys
import tempfile
from pathlib import Path

import platformdirs
import waitress

from grayshelf import __version__
from grayshelf.core.errors import GrayShelfError
from grayshelf.demo.generate import is_current
from grayshelf.demo.setup import DEMO_RATE, KeptClock, demo_devices, prepare
from grayshelf.library.library import Library
from grayshelf.web.app import Context, create_app, make_context, make_runner, warm_up

HOST = "127.0.0.1"
#: Requests at once; each listening page holds one of them.
THREADS = 20


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="grayshelf", description="Build and keep a library of calibration frames."
    )
    parser.add_argument("--version", action="version", version=__version__)
    commands = parser.add_subparsers(dest="command", required=True)
    serve = commands.add_parser("serve", help="serve your own library to this machine")
    serve.add_argument(
        "--library", type=Path, default=Path(platformdirs.user_data_dir("grayshelf")) / "library"
    )
    serve.add_argument("--port", type=int, default=8417)
    demo = commands.add_parser("demo", help="serve the invented demo, kept apart from your own library")
    demo.add_argument("--folder", type=Path, default=Path(".demo"))
    demo.add_argument("--port", type=int, default=8418)
    demo.add_argument(
        "--size", choices=["tiny", "small", "full"], default="small", help="size of the sensors"
    )
    demo.add_argument("--fresh", action="store_true", help="start the scenario anew")
    demo.add_argument("--rate", type=float, default=DEMO_RATE, help="how many times faster waits pass")
    spec = commands.add_parser("openapi", help="write the OpenAPI document")
    spec.add_argument("out", type=Path)
    return parser


def _serve(context: Context, port: int) -> None:
    app = create_app(context)
    warm_up(context)
    interrupted = context.extras.get("interrupted", 0)
    if interrupted:
        print(
            f"{interrupted} piece(s) of work were interrupted last time; Work, at the right edge of the page, shows them."
        )
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((HOST, port))
        except OSError as error:
            raise GrayShelfError(
                f"Port {port} is in use, so nothing can be served there.",
                "Close what uses it, or name another --port.",
            ) from error
    print(f"Gray Shelf is at http://{HOST}:{port}/   (Ctrl+C ends it)", flush=True)
    try:
        waitress.serve(app, host=HOST, port=port, threads=THREADS, ident=None, _quiet=True)
    finally:
        context.runner.shut_down()


def _open(library: Library) -> Context:
    runner, broker = make_runner(library)
    interrupted = runner.mark_interrupted()
    context = make_context(library, runner, broker, {})
    context.extras["interrupted"] = interrupted
    return context


def open_demo(folder: Path, size: str, rate: float) -> Context:
    """Open the demo in a folder, making what is missing of it."""
    folder.mkdir(parents=True, exist_ok=True)
    clock = KeptClock(folder / "clock.json", rate)
    context = _open(Library(folder / "library", clock))
    context.demo, context.fast_rate = True, rate
    context.starter.rigs.update(demo_devices(folder, clock, size))
    prepare(folder, size, context.library, context.runner)
    return context


def _demo(folder: Path, size: str, port: int, fresh: bool, rate: float) -> None:
    folder = folder.resolve()
    if (folder / "frames" / "made.json").exists() and not is_current(folder / "frames", size):
        # The demo's own frames, of another size or an older scenario: they are made anew.
        fresh = True
        shutil.rmtree(folder / "frames")
    if fresh:
        for name in ("library", "clock.json", "rig-heron.json", "rig-bittern.json"):
            target = folder / name
            if target.is_dir():
                shutil.rmtree(target)
            else:
                target.unlink(missing_ok=True)
    context = open_demo(folder, size, rate)
    print(f"The demo is an invented scenario; waits pass {rate:g} times as fast as real ones.")
    _serve(context, port)


def _openapi(out: Path) -> None:
    with tempfile.TemporaryDirectory() as folder:
        app = create_app(_open(Library(Path(folder) / "library")))
        with app.app_context():
            document = app.spec
    out.parent.mkdir(parents=True, exist_ok=True)
    out.write_text(json.dumps(document, indent=1, sort_keys=True) + "\n")


def main(arguments: list[str] | None = None) -> int:
    """Run a command; return the exit status."""
    args = _parser().parse_args(arguments)
    logging.basicConfig(level=logging.WARNING, format="%(levelname)s %(name)s: %(message)s")
    try:
        if args.command == "demo":
            _demo(args.folder, args.size, args.port, args.fresh, args.rate)
        elif args.command == "openapi":
            _openapi(args.out)
        else:
            library = Library(args.library)
            print(f"Your library is in {library.root}")
            _serve(_open(library), args.port)
    except GrayShelfError as error:
        print(f"{error.message} {error.advice}".strip(), file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        return 0
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
