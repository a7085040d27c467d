"""The command line: serve one's own library, serve the demo, and what a script would want."""

from __future__ import annotations

import argparse
import gc
import logging
import signal
import sys
from pathlib import Path

import platformdirs

from grayshelf import __version__
from grayshelf.command_line.asking import asking
from grayshelf.command_line.commands import FAILED, Command, add_commands
from grayshelf.command_line.plain_text import say_in_plain_signs
from grayshelf.core.errors import GrayShelfError
from grayshelf.library.folders import DATABASE
from grayshelf.library.up_to_date import begin_check
from grayshelf.memory import share_arenas

#: The demo's waits pass so many times faster than real ones.
DEMO_RATE = 60.0


def _parser() -> tuple[argparse.ArgumentParser, dict[str, Command]]:
    parser = argparse.ArgumentParser(
        prog="grayshelf", description="Build and keep a library of calibration frames."
    )
    parser.add_argument("--version", action="version", version=__version__)
    commands = parser.add_subparsers(dest="command", required=True)
    serve = commands.add_parser("serve", help="serve your own library to this machine")
    serve.add_argument("--library", type=Path, help=f"its folder; {usual_library()} where none is named")
    serve.add_argument("--new", action="store_true", help="begin a new library where there is none")
    serve.add_argument("--port", type=int, default=8417)
    demo = commands.add_parser("demo", help="serve the invented demo, kept apart from your own library")
    demo.add_argument("--folder", type=Path, default=Path(".demo"))
    demo.add_argument("--port", type=int, default=8418)
    demo.add_argument(
        "--size", choices=["tiny", "small", "full"], default="small", help="size of the sensors"
    )
    demo.add_argument("--fresh", action="store_true", help="start the scenario anew")
    demo.add_argument("--rate", type=float, default=DEMO_RATE, help="how many times faster waits pass")
    for command in (serve, demo):
        command.add_argument(
            "--lan", action="store_true", help="serve this network, too: an access code is shown"
        )
        command.add_argument(
            "--allow-folders",
            action="store_true",
            help="with --lan: folders of this machine may be named from others",
        )
        command.add_argument(
            "--new-code", action="store_true", help="with --lan: make another code; every session ends"
        )
    rig = commands.add_parser(
        "rig", help="put the simulated rigs on the network as Alpaca devices, to try them"
    )
    rig.add_argument("--port", type=int, default=11_111)
    rig.add_argument("--size", choices=["tiny", "small", "full"], default="small", help="size of the sensors")
    rig.add_argument("--rate", type=float, default=1.0, help="how many times faster exposures and moves pass")
    rig.add_argument("--folder", type=Path, help="where it is kept how the rigs stand, from start to start")
    rig.add_argument("--fresh", action="store_true", help="let the rigs stand as at their first start")
    rig.add_argument("--lan", action="store_true", help="serve this network, not only this machine")
    spec = commands.add_parser("openapi", help="write the OpenAPI document")
    spec.add_argument("out", type=Path)
    return parser, add_commands(commands, usual_library())


def usual_library() -> Path:
    """The folder of the library where none is named."""
    return Path(platformdirs.user_data_dir("grayshelf")) / "library"


def main(arguments: list[str] | None = None) -> int:
    """Run a command; return the exit status."""
    say_in_plain_signs(sys.stdout, sys.stderr)
    parser, asked = _parser()
    args = parser.parse_args(arguments)
    logging.basicConfig(level=logging.WARNING, format="%(levelname)s %(name)s: %(message)s")
    # Asked to end by the system, it ends as with Ctrl+C: what goes on is stopped, and the library let go. Begun behind a
    # script, where Ctrl+C is ignored, it ends so too.
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    share_arenas()
    if args.command in asked:
        return _ask(asked[args.command], args)
    if args.command == "serve":
        # Looked through while the application is being loaded: both take a while.
        begin_check((args.library or usual_library()) / DATABASE)
    # What is loaded stays: the collector would go through it again and again, and is let at it when all is there.
    gc.disable()
    from grayshelf.serving import Lan, serve_demo, serve_own, write_openapi

    try:
        if args.command == "rig":
            from grayshelf.served_rig.serving import serve_rig

            folder = args.folder or Path(platformdirs.user_state_dir("grayshelf")) / "rig"
            serve_rig(args.port, args.size, args.rate, folder, lan=args.lan, fresh=args.fresh)
            return 0
        if args.command == "openapi":
            write_openapi(args.out)
            return 0
        lan = Lan(args.allow_folders, args.new_code) if args.lan else None
        if args.command == "demo":
            serve_demo(args.folder, args.size, args.port, args.fresh, args.rate, lan)
        else:
            serve_own(args.library, args.new, args.port, usual_library(), lan)
    except GrayShelfError as error:
        print(f"{error.message} {error.advice}".strip(), file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        return 0
    return 0


def _ask(command: Command, args: argparse.Namespace) -> int:
    """Ask a library something; return the exit status."""
    # A job's own log lines are the application's, not the command's.
    logging.getLogger().setLevel(logging.ERROR)
    try:
        root, begin = (args.library or usual_library()).expanduser().resolve(), getattr(args, "new", False)
        with asking(root, begin=begin, quiet=args.quiet) as library:
            return command(library, args)
    except GrayShelfError as error:
        print(f"{error.message} {error.advice}".strip(), file=sys.stderr)
        return FAILED
    except KeyboardInterrupt:
        return 130


if __name__ == "__main__":
    raise SystemExit(main())
