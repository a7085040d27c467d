"""The page Intake: folders, what they hold, what could not be read, and the sets that frames fell into."""

from __future__ import annotations

from zoneinfo import ZoneInfo, available_timezones

from sqlalchemy import func, select

from grayshelf.library.backups import backups
from grayshelf.library.kinds_doubted import doubted_kinds
from grayshelf.library.library import Library
from grayshelf.library.models import Folder, Frame, Job
from grayshelf.library.place_told import told_of_all
from grayshelf.library.records import read
from grayshelf.library.sites import has_place
from grayshelf.library.step_records import ScanJob
from grayshelf.library.trains import standing_rigs
from grayshelf.library.up_to_date import BACKUPS
from grayshelf.web.common import in_words
from grayshelf.web.common.jobs import job_out
from grayshelf.web.common.places import told_out
from grayshelf.web.intake.folders import counts_by_folder, folder_out
from grayshelf.web.intake.problems import ahead_by_folder, last_night
from grayshelf.web.intake.schemas import BackupsOut, IntakeOut, RigZoneOut
from grayshelf.work.folder_watch import watched_folders
from grayshelf.work.jobs import ALIVE, JobState


def intake_page(library: Library) -> IntakeOut:
    """Folders and the site."""
    with library.db.session() as session:
        site = library.site(session)
        folders = session.scalars(select(Folder).order_by(Folder.id)).all()
        newest = session.scalar(select(func.max(Frame.id))) or 0
        counts = counts_by_folder(library, library.revision, newest)
        jobs = session.scalars(
            select(Job).where(Job.kind == "scan", Job.state.in_((*ALIVE, JobState.INTERRUPTED)))
        ).all()
        by_folder = {read(ScanJob, j.params).folder_id: job_out(j, library) for j in jobs}
        zone = library.zone(session)
        watched = set(watched_folders(library, session))
        ahead = ahead_by_folder(library, library.revision, last_night(library, session))
        told = {
            f.id: folder_out(
                f, counts.get(f.id, {}), by_folder.get(f.id), zone, f.id in watched, ahead.get(f.id, 0)
            )
            for f in folders
        }
        return IntakeOut(
            site=site["name"],
            time_zone=site["time_zone"],
            latitude=site["latitude"],
            longitude=site["longitude"],
            place_told=None
            if has_place(site)
            else told_out(told_of_all(library, session), zone, library.clock.now()),
            zones=sorted(available_timezones()),
            rig_zones=[
                RigZoneOut(rig_id=r.id, name=r.name, time_zone=r.time_zone)
                for r in session.scalars(standing_rigs())
            ],
            folders=[told[f.id] for f in folders if not f.own],
            own=next(told[f.id] for f in folders if f.own),
            doubted_kinds=_doubted(library),
            backups=_backups(library, zone),
        )


def _doubted(library: Library) -> str:
    doubts = doubted_kinds(library, library.revision)
    if not doubts:
        return ""
    count = sum(d.frames for d in doubts)
    frames, one = in_words.several(count, "frame"), count == 1
    kinds = {(d.told, d.by_folder) for d in doubts}
    if len(kinds) > 1:
        return f"{frames} lie in folders that are named for another kind than their headers say"
    told, by_folder = kinds.pop()
    return f"{frames} {'says' if one else 'say'} {told} and {'lies' if one else 'lie'} in a folder named for {by_folder}"


def _backups(library: Library, zone: ZoneInfo) -> BackupsOut:
    there = backups(library.root)
    newest = f"{there[0].made_at.astimezone(zone):%-d %b %Y, %H:%M}" if there else ""
    return BackupsOut(newest=newest, count=len(there), folder=str(library.root / BACKUPS))
