"""What a script or a cron job would want: scan, combine, match, hand-over, file, verify, backup."""

from __future__ import annotations

import argparse
import json
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from grayshelf.command_line.asking import Asking
from grayshelf.command_line.plain_text import knows_all_signs
from grayshelf.core.errors import GrayShelfError

#: What a command ends with: all is well; it could not be done; it is done, and something wants a look; nothing fits.
FINE, FAILED, LOOK, NOTHING = 0, 1, 3, 4
_EXIT = f"""
exit codes:
  {FINE}  all is well (match: everything fits)
  {FAILED}  it could not be done; why is said
  2  the command was not understood; why is said
  {LOOK}  done, and something wants a look (match: something fits only with care)
  {NOTHING}  match: for some lights nothing fits, or they are not in the library
"""
Command = Callable[[Asking, argparse.Namespace], int]


def _one_of(*choices: str) -> dict[str, Any]:
    """An option for one of these, the first unless one is named; a word with which only one begins names it."""

    def chosen(text: str) -> str:
        begun = [choice for choice in choices if choice.startswith(text.lower())]
        return begun[0] if len(begun) == 1 else text

    return {"choices": choices, "type": chosen, "default": choices[0]}


def add_commands(commands: Any, usual: Path) -> dict[str, Command]:
    """Add what can be asked of a library; returns what each does."""

    def add(name: str, does: str, more: str) -> argparse.ArgumentParser:
        made: argparse.ArgumentParser = commands.add_parser(
            name,
            help=does,
            description=f"{does[:1].upper()}{does[1:]}.\n\n{more}",
            epilog=_EXIT,
            formatter_class=argparse.RawDescriptionHelpFormatter,
        )
        made.add_argument("--library", type=Path, help=f"its folder; {usual} where none is named")
        made.add_argument("--json", action="store_true", help="print what came of it as JSON")
        made.add_argument("--quiet", action="store_true", help="say nothing of progress")
        return made

    scan = add(
        "scan",
        "look through folders for new frames",
        "Nothing in them is changed. A folder that is not on the list is put on it; without a folder, all that\n"
        "are on the list are looked through.\n\n  grayshelf scan /data/frames",
    )
    scan.add_argument("folders", nargs="*", type=Path)
    scan.add_argument("--new", action="store_true", help="begin a new library where there is none")
    combine = add(
        "combine",
        "combine raw frames into masters",
        "Sets of three frames and more that have no master. With --grown also those that frames came to since\n"
        "theirs was built: it is built anew, and the former one can be put back on the page Shelf.\n\n"
        "  grayshelf scan && grayshelf combine --grown",
    )
    combine.add_argument("--grown", action="store_true", help="also anew, where frames came since")
    match = add(
        "match",
        "tell what fits lights",
        "The lights are named by files or folders that the library has scanned. Prints a line for each set of\n"
        "lights, or with --json the whole slips.\n\n  grayshelf match --json /data/frames/2026-10-18 | jq .verdict",
    )
    match.add_argument("paths", nargs="+", type=Path)
    hand = add(
        "hand-over",
        "bring lights and what fits them into a folder or a zip",
        "  grayshelf hand-over /data/out/M33 --lights /data/frames/M33\n"
        "  grayshelf hand-over M33.zip --lights /data/frames/M33 --form raw",
    )
    hand.add_argument(
        "target", type=Path, help="a folder that is not there yet, or a file that ends with .zip"
    )
    hand.add_argument("--lights", nargs="+", type=Path, required=True, help="files or folders of lights")
    hand.add_argument("--form", **_one_of("masters", "raw frames", "calibrated lights"))
    hand.add_argument("--way", **_one_of("copies", "hard links", "links"))
    hand.add_argument(
        "--pattern",
        default="",
        help="for folders and names: '{kind}/{word}/{name}'; the page Hand over lists its parts",
    )
    hand.add_argument("--without-lights", action="store_true", help="only what fits them")
    file = add(
        "file",
        "put frames in the order that was chosen on the page File",
        "  grayshelf file --folder /data/incoming --into /data/frames --try",
    )
    file.add_argument("--folder", type=Path, help="only frames in this folder")
    file.add_argument("--into", type=Path, help="the folder that is filed into; as last where none is named")
    file.add_argument("--copy", action="store_true", help="copy them; they are moved otherwise, or as last")
    file.add_argument("--move", action="store_true", help="move them")
    file.add_argument("--try", dest="only_try", action="store_true", help="only tell what would go where")
    add(
        "verify",
        "read every file and compare it with what it was",
        "Damage that neither size nor date tells is found.",
    )
    backup = add("backup", "copy the library's database", "  grayshelf backup --to /mnt/nas/grayshelf.db")
    backup.add_argument(
        "--to", type=Path, help="a file that is not there yet; among the library's own otherwise"
    )
    return {
        "scan": _scan,
        "combine": _combine,
        "match": _match,
        "hand-over": _hand_over,
        "file": _file,
        "verify": _verify,
        "backup": _backup,
    }


def _say(args: argparse.Namespace, text: str, told: Any) -> None:
    try:
        escaped = not knows_all_signs(sys.stdout)
        print(json.dumps(told, indent=1, ensure_ascii=escaped) if args.json else text, flush=True)
    except BrokenPipeError:
        # What reads it, such as 'head', has all that it wants: the exit code is the answer all the same.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _ended(asking: Asking, args: argparse.Namespace, job_id: int) -> int:
    """Tell what a job came to."""
    job = asking.ended(job_id)
    _say(args, "\n".join([job["message"], *job["troubles"]]), job)
    return LOOK if job["troubles"] else FINE


def _scan(asking: Asking, args: argparse.Namespace) -> int:
    if args.folders:
        wanted = [("/api/folders", {"path": str(f.resolve())}) for f in args.folders]
    else:
        wanted = [(f"/api/folders/{f['id']}/scan", {}) for f in asking.get("/api/intake")["folders"]]
        if not wanted:
            raise GrayShelfError("No folder is on the list yet.", "Name one: grayshelf scan /data/frames")
    told, failed = [], list[GrayShelfError]()
    # One after the other: a disk that is not in keeps no other from being scanned.
    for path, body in wanted:
        try:
            told.append(asking.ended(asking.post(path, body)["id"]))
        except GrayShelfError as error:
            failed.append(error)
    if told or not failed:
        _say(args, "\n".join(f"{j['title']}: {j['message']}" for j in told), told)
    for trouble in failed:
        print(f"{trouble.message} {trouble.advice}".strip(), file=sys.stderr)
    return FAILED if failed else FINE


def _combine(asking: Asking, args: argparse.Namespace) -> int:
    ids: list[int] | None = None
    page = asking.get("/api/sets")
    count = page["to_build"]
    if args.grown:
        later = [asking.get(f"/api/sets?page={number}") for number in range(2, page["pages"] + 1)]
        sets = [one for part in [page, *later] for one in part["items"]]
        ids = [one["id"] for one in sets if (one["can_build"] or one["come_since"]) and not one["missing"]]
        count = len(ids)
    if not count:
        nothing = (
            "Nothing to combine: the sets have their masters, have too few frames, or wait for missing files."
        )
        _say(args, nothing, {"message": nothing, "troubles": []})
        return FINE
    return _ended(asking, args, asking.post("/api/builds", {"set_ids": ids})["id"])


def _matched(asking: Asking, paths: list[Path]) -> Any:
    return asking.post("/api/match", {"paths": [str(p.resolve()) for p in paths]})


def _line(line: Any) -> str:
    """A line of a slip in words: what was chosen and what asks for care, or what the next best lost on."""
    if line["waits"]:
        return str(line["note"] or line["verdict"])
    best = line["chosen"] or next(iter(line["runners_up"]), None)
    if best is None:
        return "; ".join(part for part in (line["verdict"], line["note"]) if part)
    why = "; ".join(best["reasons"])
    if line["chosen"] is None:
        return f"{line['verdict']}; the next best, {best['title']}, lost: {best['lost_on'] or why}"
    return f"{line['verdict']}, {best['title']}" + (f" ({why})" if why else "")


def _match(asking: Asking, args: argparse.Namespace) -> int:
    told = _matched(asking, args.paths)
    lines = []
    for m in told["matched"]:
        slip = m["slip"]
        parts = (m.get("night"), slip["target"], slip["filter_code"], slip["title"])
        of = ", ".join(part for part in parts if part)
        lines.append(f"{of}: {slip['verdict']}")
        lines += [f"  {x['kind']}: {_line(x)}" for x in slip["lines"]]
    lines += [f"{path}: no light of it is in the library" for path in told["not_known"]]
    _say(args, "\n".join(lines), told)
    return {"fits": FINE, "fits with care": LOOK}.get(told["verdict"], NOTHING)


def _hand_over(asking: Asking, args: argparse.Namespace) -> int:
    told = _matched(asking, args.lights)
    if told["not_known"]:
        raise GrayShelfError(f"No light of {told['not_known'][0]} is in the library.", "Scan it first.")
    wish = {
        "sets": ",".join(str(m["slip"]["set_id"]) for m in told["matched"]),
        "form": args.form,
        "lights": not args.without_lights,
        "pattern": args.pattern,
    }
    query = urlencode({**wish, "lights": str(wish["lights"]).lower()})
    said = asking.get(f"/api/hand-over?{query}")["said"]
    for line in said:
        print(line, file=sys.stderr)
    if args.target.suffix.lower() == ".zip":
        asking.save(f"/api/hand-over.zip?{query}", args.target)
        _say(args, f"{args.target} is written", {"zip": str(args.target), "said": said})
        return LOOK if said else FINE
    job = asking.post("/api/hand-over", {**wish, "folder": str(args.target.resolve()), "way": args.way})
    return max(_ended(asking, args, job["job_id"]), LOOK if said else FINE)


def _file(asking: Asking, args: argparse.Namespace) -> int:
    page = asking.get("/api/filing")
    choice: dict[str, Any] = {}
    if args.folder is not None:
        choice = _in_folder(page["folders"], args.folder.resolve())
    wish = {
        "choice": choice,
        "root": str(args.into.resolve()) if args.into is not None else page["root"],
        "patterns": [{"sort": p["sort"], "text": p["text"]} for p in page["patterns"]],
        "unknown": page["unknown"],
        "way": "copy" if args.copy else "move" if args.move else page["way"],
        "along": page["along"],
    }
    plan = asking.post("/api/filing/preview", wish)
    if plan["trouble"]:
        raise GrayShelfError(plan["trouble"], plan["advice"])
    stays = [f"{s['count']:,} stay: {s['name']}" for s in plan["stays"]]
    if args.only_try or not plan["going"]:
        rows = [f"{r['source']} -> {r['target']}" for r in plan["rows"] if not r["stays"]]
        head = f"{plan['going']:,} to file, {plan['in_place']:,} in place"
        _say(args, "\n".join([head, *stays, *rows]), plan)
        return LOOK if stays else FINE
    for line in stays:
        print(line, file=sys.stderr)
    return max(_ended(asking, args, asking.post("/api/filing", wish)["job_id"]), LOOK if stays else FINE)


def _in_folder(folders: list[Any], folder: Path) -> dict[str, Any]:
    """The choice of frames in a folder that is on the list, or lies in one that is."""
    for one in folders:
        if folder.is_relative_to(one["path"]):
            below = folder.relative_to(one["path"]).as_posix()
            return {"folder_id": one["id"], "below": "" if below == "." else below}
    raise GrayShelfError(f"{folder} is not on the list.", f"Scan it first: grayshelf scan {folder}")


def _verify(asking: Asking, args: argparse.Namespace) -> int:
    return _ended(asking, args, asking.post("/api/verify", {})["job_id"])


def _backup(asking: Asking, args: argparse.Namespace) -> int:
    to = str(args.to.resolve()) if args.to is not None else None
    return _ended(asking, args, asking.post("/api/backup", {"to": to})["job_id"])
