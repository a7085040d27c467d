"""The routes of the Bench: parse, call, serialise."""

from __future__ import annotations

import json

from apiflask import APIBlueprint
from flask import Response

from grayshelf import __version__
from grayshelf.core.errors import Conflict, GrayShelfError, NotFound
from grayshelf.core.sensor.gain_words import gain_named
from grayshelf.library.bench_frames import delete_for_good, take_back, throw_away
from grayshelf.library.camera_values import accept, forget_newest, offset_values
from grayshelf.library.library import Library
from grayshelf.library.measurements import measurement, offset_result
from grayshelf.library.models import Job, Measurement
from grayshelf.library.records import read
from grayshelf.library.rig_terms import word_where_measured
from grayshelf.library.step_records import MeasurementJob
from grayshelf.web.bench import tables
from grayshelf.web.bench.measurement import measurement_page
from grayshelf.web.bench.page import bench_page
from grayshelf.web.bench.schemas import (
    AcceptIn,
    BenchOut,
    DiskIn,
    ForgetIn,
    MeasurementOut,
    MeasuringOut,
    ShootIn,
)
from grayshelf.web.common import in_words
from grayshelf.web.common.schemas import Done
from grayshelf.web.context import the_context
from grayshelf.web.exports import as_file, csv_response
from grayshelf.work.bench.starter import ByHand, measured_values
from grayshelf.work.gates import answer_gate
from grayshelf.work.jobs import ALIVE

bench = APIBlueprint("bench", __name__, url_prefix="/api", tag="Bench")
KINDS = ("offset", "gain")


def _kind(kind: str) -> str:
    if kind not in KINDS:
        raise NotFound(f"The Bench does not measure '{kind}'.", "Choose offset or gain.")
    return kind


def _changed() -> Library:
    """What was measured bears on slips: they are written anew."""
    library = the_context().library
    library.touched()
    the_context().broker.publish("bench")
    return library


@bench.get("/rigs/<int:rig_id>/bench/<string:kind>")
@bench.output(BenchOut)
def bench_of_rig(rig_id: int, kind: str) -> BenchOut:
    """What the Bench can measure of a rig's camera, and what it has."""
    context = the_context()
    with context.library.db.session() as session:
        rig = context.library.rig(session, rig_id)
        devices, in_wheel = context.bench.devices(rig), context.bench.in_the_wheel(rig)
    return bench_page(context.library, rig_id, _kind(kind), devices, in_wheel)


@bench.get("/rigs/<int:rig_id>/bench/<string:kind>/kept.csv")
@bench.doc(hide=True)
def kept_csv(rig_id: int, kind: str) -> Response:
    """What was accepted of a rig's camera, with its history."""
    rows, name = tables.kept(the_context().library, rig_id, _kind(kind))
    return csv_response(rows, name)


@bench.post("/rigs/<int:rig_id>/bench/<string:kind>/shoot")
@bench.input(ShootIn)
@bench.output(MeasuringOut)
def shoot(rig_id: int, kind: str, json_data: ShootIn) -> MeasuringOut:
    """Measure with the rig, or with frames that another program writes into a folder."""
    runner = the_context().bench
    gains, by_hand = sorted(set(json_data.gains)), None
    if json_data.folder is not None:
        if json_data.offset_to <= json_data.offset_from:
            raise GrayShelfError("Offsets go from a lower to a higher one.", "Turn the two around.")
        by_hand = ByHand(json_data.folder, (json_data.offset_from, json_data.offset_to))
    if _kind(kind) == "offset":
        job_id = runner.shoot_offset(rig_id, gains, json_data.margin_adu, json_data.long_dark_s, by_hand)
    else:
        job_id = runner.shoot_gain(rig_id, gains, json_data.filter_code, by_hand)
    return _started(job_id)


@bench.post("/rigs/<int:rig_id>/bench/<string:kind>/disk")
@bench.input(DiskIn)
@bench.output(MeasuringOut)
def from_disk(rig_id: int, kind: str, json_data: DiskIn) -> MeasuringOut:
    """Measure from frames that are on the disk."""
    return _started(the_context().bench.use_disk(rig_id, _kind(kind), json_data.set_ids))


def _started(job_id: int) -> MeasuringOut:
    context = the_context()
    with context.library.db.session() as session:
        params = session.get_one(Job, job_id).params
    context.broker.publish("bench")
    return MeasuringOut(job_id=job_id, measurement_id=read(MeasurementJob, params).measurement_id)


@bench.get("/measurements/<int:measurement_id>")
@bench.output(MeasurementOut)
def one_measurement(measurement_id: int) -> MeasurementOut:
    """One measurement, with everything it says."""
    return measurement_page(the_context().library, measurement_id)


@bench.output(Done)
def answer(measurement_id: int) -> Done:
    """The person did what the gate asks for."""
    context = the_context()
    gate = measurement_page(context.library, measurement_id).gate
    with context.library.db.session() as session:
        job_id = measurement(session, measurement_id).job_id
    if gate is None or job_id is None:
        raise Conflict("Nothing waits for your hand here.", "Look again: it has moved on.")
    answer_gate(context.library, context.runner, job_id, gate.step_id, "done")
    return Done(message="It goes on.")


@bench.post("/measurements/<int:measurement_id>/accept")
@bench.input(AcceptIn)
@bench.output(Done)
def accept_value(measurement_id: int, json_data: AcceptIn) -> Done:
    """Keep a value with the camera."""
    library, gain = the_context().library, json_data.gain
    with library.db.session() as session:
        row = measurement(session, measurement_id)
        _refuse_while_measured(session.get(Job, row.job_id) if row.job_id else None)
        if gain not in row.gains:
            raise NotFound(f"Gain {gain:g} was not measured here.", "Choose one that was.")
        word = word_where_measured(library, row.camera)
        if row.kind == "offset":
            result = offset_result(library, session, row, gain)[1]
            values = offset_values(result, json_data.offset)
            if values is None:
                raise Conflict("These frames give no answer, so nothing was kept.", "Measure again.")
            own = values["offset"] != values["lowest"]
            said = f"Offset {values['offset']:g} is kept for {word} {gain:g}."
        else:
            values, own = measured_values(session, row, gain), False
            if values is None:
                raise Conflict("These frames give no answer, so nothing was kept.", "Measure again.")
            said = f"{values['e_per_adu']:.3g} e⁻/ADU is kept for {gain_named(word, gain)}."
        accept(library, session, row, gain, values, own)
    _changed()
    return Done(message=said)


def _refuse_while_measured(job: Job | None) -> None:
    if job is not None and job.state in ALIVE:
        raise Conflict("This measurement still goes on.", "Wait for it, or stop it.")


@bench.post("/rigs/<int:rig_id>/bench/take-back")
@bench.input(ForgetIn)
@bench.output(Done)
def take_value_back(rig_id: int, json_data: ForgetIn) -> Done:
    """Take the newest accepted value back."""
    library = the_context().library
    with library.db.session() as session:
        rig = library.rig(session, rig_id)
        forget_newest(library, session, rig.camera, json_data.kind, json_data.gain)
        word = word_where_measured(library, rig.camera)
    _changed()
    return Done(
        message=f"The {json_data.kind} accepted at {gain_named(word, json_data.gain)} was taken back."
    )


@bench.post("/measurements/<int:measurement_id>/frames/<string:what>")
@bench.output(Done)
def frames(measurement_id: int, what: str) -> Done:
    """Throw the frames of a measurement away, take them back, or delete them for good."""
    library = the_context().library
    with library.db.session() as session:
        row = measurement(session, measurement_id)
        _refuse_while_measured(session.get(Job, row.job_id) if row.job_id else None)
    if what == "throw-away":
        throw_away(library, measurement_id)
        said = "Thrown away; what they said is kept. They can be taken back until they are deleted."
    elif what == "take-back":
        take_back(library, measurement_id)
        said = "They are back."
    elif what == "delete":
        said = f"{in_words.size(delete_for_good(library, measurement_id))} freed."
    else:
        raise NotFound("There is no such action.")
    _changed()
    return Done(message=said)


@bench.post("/measurements/<int:measurement_id>/forget")
@bench.output(Done)
def forget(measurement_id: int) -> Done:
    """Drop a measurement."""
    the_context().bench.forget(measurement_id)
    _changed()
    return Done(message="Forgotten. What was accepted from it stays with the camera.")


@bench.get("/measurements/<int:measurement_id>.csv")
@bench.doc(hide=True)
def measurement_csv(measurement_id: int) -> Response:
    """Every frame or pair of a measurement."""
    rows, name = tables.as_table(the_context().library, measurement_id)
    return csv_response(rows, name)


@bench.get("/measurements/<int:measurement_id>/by-gain.csv")
@bench.doc(hide=True)
def summary_csv(measurement_id: int) -> Response:
    """What was found at each gain."""
    rows, name = tables.as_summary(the_context().library, measurement_id)
    return csv_response(rows, name)


@bench.get("/measurements/<int:measurement_id>.json")
@bench.doc(hide=True)
def measurement_json(measurement_id: int) -> Response:
    """The whole measurement: what every frame said, and what came of it."""
    library = the_context().library
    page = measurement_page(library, measurement_id)
    with library.db.session() as session:
        row = session.get_one(Measurement, measurement_id)
        whole = {
            "made_by": f"Gray Shelf {__version__}",
            "kind": row.kind,
            "camera": row.camera,
            "gains": row.gains,
            "made_at": row.made_at.isoformat(),
            "source": row.source,
            "settings": row.settings,
            "found": page.model_dump(include={"offset", "gain"}),
            "frames": [
                {
                    "gain": shot.gain,
                    "offset": shot.offset,
                    "role": shot.role,
                    "exposure_s": shot.exposure_s,
                    "brightness": shot.brightness,
                    "pair": shot.pair,
                    "taken_at": shot.taken_at.isoformat() if shot.taken_at else None,
                    "file": shot.path,
                    "reading": shot.reading,
                }
                for shot in row.shots
            ],
        }
        name = tables.file_name(row)
    text = json.dumps(whole, ensure_ascii=False, indent=1)
    return as_file(Response(text, mimetype="application/json"), f"{name}.json")
