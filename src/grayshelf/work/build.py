"""Building masters: frames hashed and judged, combined in strips, written with their provenance."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from grayshelf import __version__
from grayshelf.core.checks.figures import master_figures
from grayshelf.core.checks.frames import LEAK_ALLOWANCE_ADU
from grayshelf.core.checks.of_a_master import reasons_for_care
from grayshelf.core.digits import seconds
from grayshelf.core.errors import CannotCombine, DiskFull, GrayShelfError, NotFound
from grayshelf.core.filing.names import master_name, safe_name
from grayshelf.core.frames.fits_blocks import card_value
from grayshelf.core.frames.kinds import FrameKind
from grayshelf.core.frames.lit_part import lit_part_of, pattern_where_lit
from grayshelf.core.frames.write import (
    InputRecord,
    end_rows,
    frame_header,
    kept_rows,
    start_rows,
    utc_text,
    write_master,
)
from grayshelf.core.masters.combine import CombineSettings, Told, combine_into
from grayshelf.core.matching.match import choose
from grayshelf.core.matching.model import CommonSettings
from grayshelf.core.matching.stock import Role, Wanted
from grayshelf.core.pictures.parts import Parts
from grayshelf.core.pictures.quantiles import quantile_of
from grayshelf.library.catalog import IN_SETS, enter_own_file
from grayshelf.library.facts_json import facts_from_json
from grayshelf.library.file_parts import FileParts
from grayshelf.library.file_rows import FileSource
from grayshelf.library.files import drop_unfinished, read_header, scratch_folder, sha256_of, write_new
from grayshelf.library.folders import stamp_of
from grayshelf.library.grouping import describe_set
from grayshelf.library.holdings import common_settings, stock
from grayshelf.library.library import Library
from grayshelf.library.masters_found import COMBINED_BY, TAKEN_OFF
from grayshelf.library.models import Folder, Frame, FrameSet, MasterInput, MasterRecord
from grayshelf.library.records import read
from grayshelf.library.rig_terms import rig_of, terms_of
from grayshelf.library.room import as_disk_full
from grayshelf.library.shelf_levels import pedestal_level
from grayshelf.library.step_records import BuildJob, JobResult
from grayshelf.work.checked import Judged, as_json, judge_inputs, looked_at
from grayshelf.work.jobs import JobControl
from grayshelf.work.not_built import set_name, told_once
from grayshelf.work.stack import Pedestal, Stack, digest_of, files_of, in_order_taken, refuse_changed

#: Fewer frames than this are not a stack.
FEWEST = 3


def build_sets(library: Library, control: JobControl, params: dict[str, Any]) -> JobResult:
    """Work of a build job (`BuildJob`): its sets in the order that lets flats find their dark flats."""
    asked = read(BuildJob, params)
    wanted = asked.set_ids
    with library.db.session() as session:
        rows = session.scalars(select(FrameSet).where(FrameSet.id.in_(wanted))).all()
        order = {FrameKind.BIAS: 0, FrameKind.DARK: 1, FrameKind.DARK_FLAT: 2, FrameKind.FLAT: 3}
        todo = [
            r.id
            for r in sorted(rows, key=lambda r: (order[FrameKind(r.kind)], r.id))
            if r.kind != "light" and not r.is_master and (asked.again or r.master_set_id is None)
        ]
        names = {r.id: set_name(r) for r in rows}
    failed: list[tuple[str, str]] = []
    for number, set_id in enumerate(todo):
        control.check()

        def share(part: float, number: int = number) -> None:
            control.check()
            control.report((number + part) / len(todo), f"Master {number + 1} of {len(todo)}")

        try:
            build_master(library, set_id, share, asked.settings, again=asked.again)
        except DiskFull:
            raise
        except GrayShelfError as error:
            # One that cannot be built does not keep the others from it.
            failed.append((names[set_id], f"{error.message} {error.advice}".strip()))
    built = len(todo) - len(failed)
    message = f"{built} master{'s' if built != 1 else ''} built"
    if failed:
        message += f"; {len(failed)} could not be: {failed[0][1]}"
    return JobResult(message, told_once(failed))


def build_master(
    library: Library,
    set_id: int,
    progress: Callable[[float], None] = lambda share: None,
    settings: CombineSettings = CombineSettings(),
    *,
    again: bool = False,
) -> int:
    """Combine a set into a master and put it on the shelf; return the master's set number.

    Building a set that has its master already returns that master: nothing is built twice. `again` builds it anew, with
    what fits it now; the former master is taken off the shelf, and can be put back.

    Raises
    ------
    CannotCombine
        Where too few frames are left, or they do not belong together.
    """
    with library.db.session() as session:
        row = session.get(FrameSet, set_id)
        if row is None:
            raise NotFound("This set is no longer in the library.")
        if row.master_set_id is not None and not again:
            return row.master_set_id
        frames = in_order_taken(f for f in row.frames if f.state in IN_SETS and not f.rejected)
        if not frames:
            raise CannotCombine(
                "None of its frames can be combined: all were rejected or cannot be read.",
                "Keep some of them again, or shoot the set anew.",
            )
        stack = Stack(row, frames, files_of(library, session, frames), _pedestal_for(library, session, row))
    stamps = [stamp_of(path) for path in stack.paths]
    scratch = library.root / "scratch"
    judged = judge_inputs(stack, scratch, lambda s: progress(0.35 * s))
    inputs = judged.inputs
    used = [i for i, record in enumerate(inputs) if record.used]
    if len(used) < FEWEST:
        raise _too_few(judged, len(used))
    facts = stack.facts_of_master(len(used))
    digest = digest_of(inputs, settings, stack.pedestal)
    camera, name = safe_name(facts.camera or "camera"), master_name(facts, len(used))
    relative = f"masters/{camera}/{name}_{digest[:8]}.fits"
    target = library.root / relative
    drop_unfinished(target)
    if target.exists():
        # Written before the process was killed, but not entered: the same inputs give the same file.
        noise, sha256 = _noise_in_header(target), sha256_of(target)
    else:
        with scratch_folder(scratch) as room:
            rows = room / "rows.fits"
            told = _combine(rows, stack, used, settings, lambda s: progress(0.35 + 0.55 * s))
            inputs = _with_clipped(inputs, used, told)
            noise = _Noise(*(_as_in_header(n) for n in (told.noise, told.frame_noise, told.predicted_noise)))
            refuse_changed(stack.paths, stamps)
            header = frame_header(facts, _told_in_header(noise, digest, row.last_utc))
            history, combined = _history(stack, settings, len(used)), FileParts(rows, room)
            sha256 = write_new(target, lambda stream: write_master(stream, combined, header, inputs, history))
    progress(0.97)
    master_id = _enter(
        library, stack, relative, _Made(settings, replace(judged, inputs=inputs), noise, len(used), sha256)
    )
    library.touched()
    progress(1.0)
    return master_id


@dataclass(frozen=True)
class _Noise:
    """A master's noise in ADU (see `Combined`); None or NaN where it is not known."""

    left: float | None
    of_one_frame: float | None
    foretold: float | None


def _as_in_header(noise: float) -> float:
    """With as many digits as a card holds whatever its size: a library that is found again by its files has the same."""
    return float(f"{noise:.12g}")


@dataclass(frozen=True)
class _Made:
    """How a master was made of its set."""

    settings: CombineSettings
    judged: Judged
    noise: _Noise
    n_used: int
    sha256: str


def _too_few(judged: Judged, n_used: int) -> CannotCombine:
    why = "; ".join(sorted({f.message for f in judged.findings if f.leave_out}))
    return CannotCombine(
        f"Only {n_used} of {len(judged.inputs)} frames can be used; a master needs {FEWEST} or more. {why}".strip(),
        "Shoot more, or look at why the others were left out.",
    )


def _with_clipped(inputs: Sequence[InputRecord], used: Sequence[int], combined: Told) -> list[InputRecord]:
    clipped = dict(zip(used, combined.clipped_fraction, strict=True))
    return [replace(r, clipped_fraction=clipped.get(i, r.clipped_fraction)) for i, r in enumerate(inputs)]


def _told_in_header(noise: _Noise, digest: str, last_utc: datetime | None) -> dict[str, tuple[object, str]]:
    told: dict[str, tuple[object, str]] = {
        "GSNOISE": (noise.left, "temporal noise left in a pixel"),
        "GSNOISE1": (noise.of_one_frame, "temporal noise of one frame"),
        "GSNOISEP": (noise.foretold, "noise foretold for this many frames"),
        "GSDIGEST": (digest[:32], "inputs and settings"),
    }
    if last_utc is not None:
        told["DATE-END"] = (utc_text(last_utc), "UTC, start of the last exposure")
    # A header holds no NaN.
    return {keyword: card for keyword, card in told.items() if card[0] == card[0]}


def _history(stack: Stack, settings: CombineSettings, n_used: int) -> list[str]:
    lines = [
        f"{COMBINED_BY} {__version__}: {settings.describe(n_used)}",
        f"{n_used} of {len(stack.frames)} frames used; the table INPUTS names each with its SHA-256",
    ]
    return lines if stack.pedestal is None else [*lines, f"{TAKEN_OFF}{stack.pedestal.path.name}"]


def _noise_in_header(path: Path) -> _Noise:
    header = read_header(path).header
    return _Noise(*(card_value(header, keyword) for keyword in ("GSNOISE", "GSNOISE1", "GSNOISEP")))


def _combine(
    into: Path,
    stack: Stack,
    used: Sequence[int],
    settings: CombineSettings,
    progress: Callable[[float], None],
) -> Told:
    """Combine the frames of a set into a file beside which others are unpacked: a master is never held whole."""
    row, paths, scratch = stack.row, stack.paths, into.parent
    flat = row.kind == "flat"
    dark = None
    if stack.pedestal is not None:
        dark = FileSource(stack.pedestal.path, stack.pedestal.path.name, scratch)
    sources = [FileSource(paths[i], paths[i].name, scratch) for i in used]
    width, height = sources[0].width, sources[0].height
    try:
        with into.open("wb") as stream:
            start_rows(stream, width, height)
            told = combine_into(
                lambda rows: stream.write(kept_rows(rows)),
                sources,
                settings,
                pedestal=dark,
                scale_to_median=flat,
                pattern=stack.facts.pixel_pattern if flat else None,
                lit=lit_part_of(stack.facts),
                progress=progress,
            )
            end_rows(stream, width, height)
    except OSError as error:
        raise as_disk_full(error, scratch) or error from error
    return told


def _pedestal_for(library: Library, session: Session, row: FrameSet) -> Pedestal | None:
    """The dark flat (or dark of that exposure, or bias) to take off a flat, as a master; built first if need be.

    Flats of the sky differ in exposure, so only a bias fits them all.
    """
    if row.kind != "flat":
        return None
    facts = facts_from_json(row.facts)
    want = common_settings(row, facts)
    shelf = stock(library, row.camera or "")
    rig = rig_of(session, row)
    if rig is None:
        raise CannotCombine("No rig is known for these flats.", "Scan their folder again.")
    terms = terms_of(library, rig, facts.gain)

    chosen = None
    if not want.exposures_differ:
        chosen = choose(FrameKind.DARK_FLAT, shelf, [Wanted(Role.DARK_FLAT, want, terms)])[0].chosen
    if chosen is None and (want.exposures_differ or terms.says.bias_will_do):
        chosen = choose(FrameKind.BIAS, shelf, [Wanted(Role.BIAS, want, terms)])[0].chosen
    if chosen is None:
        raise _no_pedestal(want, bias_will_do=terms.says.bias_will_do)
    chosen_id = int(chosen.holding.key)
    if not chosen.holding.is_master:
        session.commit()
        chosen_id = build_master(library, chosen_id)
    master = session.get_one(FrameSet, chosen_id)
    return Pedestal(chosen_id, files_of(library, session, master.frames)[0])


def _no_pedestal(flats: CommonSettings, *, bias_will_do: bool) -> CannotCombine:
    if flats.exposures_differ:
        return CannotCombine(
            "No bias fits these flats of the sky, so their pedestal would stay in: each has an exposure of its own, "
            "and dark flats fit none but theirs.",
            "Shoot bias at their gain and offset first.",
        )
    exposure = "their exposure" if flats.exposure_s is None else seconds(flats.exposure_s)
    return CannotCombine(
        f"No dark flat of {exposure}{' and no bias' if bias_will_do else ''} fits these flats, so their pedestal would "
        "stay in.",
        "Shoot dark flats at the flats' exposure, or say on a pull slip of their lights that a bias will do.",
    )


def _leak(library: Library, row: FrameSet, picture: Parts) -> str | None:
    """A reason to use a capped master with care: it lies above the pedestal that the shelf knows."""
    if row.kind not in ("dark flat", "bias"):
        return None
    settings = common_settings(row, facts_from_json(row.facts))
    known = pedestal_level(library, settings, but=(row.id, row.master_set_id))
    if known is None:
        return None
    excess = quantile_of(picture, 0.5) - known.adu
    if excess <= LEAK_ALLOWANCE_ADU:
        return None
    above = f"{excess:,.0f} ADU above the {known.known_from}"
    # Bias of another offset lie as high; only headers tell which it is.
    told = settings.gain is not None and settings.offset is not None
    return f"light leak: {above}" if told else f"{above}: a light leak, or another gain or offset"


def _enter(library: Library, stack: Stack, relative: str, made: _Made) -> int:
    """Put a master that lies on the disk into the catalogue, in one step."""
    # What is slow comes before the database is written.
    picture = FileParts(library.root / relative, library.root / "scratch")
    pattern = pattern_where_lit(stack.facts.pixel_pattern, picture.lit)
    figures = [vars(f) for f in master_figures(picture.where_lit, FrameKind(stack.row.kind), pattern)]
    with library.db.session() as session:
        found = looked_at(library, session, stack.row, picture, made.judged.findings)
    leak = _leak(library, stack.row, picture)
    with library.db.session() as session:
        row = session.get_one(FrameSet, stack.row.id)
        folder = session.get_one(Folder, library.own_folder_id(session))
        facts = stack.facts_of_master(made.n_used)
        frame = enter_own_file(session, folder, relative, facts, made.sha256)
        frame.group_key = frame.group_key or "master"
        master = FrameSet(kind=row.kind, is_master=True, n_frames=made.n_used, n_kept=made.n_used, facts={})
        session.add(master)
        session.flush()
        frame.set_id = master.id
        describe_set(master, [frame], [facts])
        master.sample_step, master.first_utc, master.last_utc = row.sample_step, row.first_utc, row.last_utc
        master.record = _record(session, master.id, stack, made)
        frames = [{"mean": r.mean_adu, "noise": r.noise_adu, "temp": r.temp_c} for r in made.judged.inputs]
        master.record.figures = {"list": figures, "findings": as_json(found), "frames": frames}
        care = [*([leak] if leak else []), *reasons_for_care(found)]
        if care:
            master.record.care = [*(master.record.care or []), *care]
        former = row.master_set_id
        row.master_set_id = master.id
        if former is not None and former != master.id:
            session.get_one(FrameSet, former).taken_off = True
        return master.id


def _record(session: Session, master_id: int, stack: Stack, made: _Made) -> MasterRecord:
    """What is kept of a master's making; its doubts are those of what was taken off."""
    record = MasterRecord(
        set_id=master_id,
        built_here=True,
        method=made.settings.describe(made.n_used),
        noise=made.noise.left,
        frame_noise=made.noise.of_one_frame,
        predicted_noise=made.noise.foretold,
        pedestal_kind="",
    )
    if stack.pedestal is not None:
        pedestal = session.get_one(FrameSet, stack.pedestal.set_id)
        record.pedestal_set_id, record.pedestal_kind = pedestal.id, pedestal.kind
        if pedestal.record is not None and pedestal.record.care:
            record.care = [f"its {pedestal.kind} has a {reason}" for reason in pedestal.record.care]
    for seq, (told, frame) in enumerate(zip(made.judged.inputs, stack.frames, strict=True)):
        # From now on it is known wherever its file goes.
        session.get_one(Frame, frame.id).sha256 = told.sha256
        record.inputs.append(
            MasterInput(
                seq=seq,
                frame_id=frame.id,
                name=told.name,
                sha256=told.sha256,
                used=told.used,
                level_adu=told.level_adu,
                clipped_fraction=told.clipped_fraction,
                reason=told.reason,
            )
        )
    return record
