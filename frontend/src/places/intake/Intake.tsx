import { useState } from "react";
import { Link, useSearchParams } from "react-router";

import { api, get, type Schemas } from "../../api/client";
import {
  useChange,
  useIntake,
  useJobAction,
  useJobs,
  useProblems,
  useProposal,
  useSets,
} from "../../api/hooks";
import { Bar, Button, PageHead, Segments, Trouble, Waiting } from "../../parts/basics";
import { Degrees, degreesOf } from "../../parts/Degrees";
import { waiting } from "../../parts/proposal";
import { TakeBack } from "../../parts/TakeBack";
import { JobHere } from "../../parts/JobCards";
import { IntakeViewer, useIntakeLooking } from "./IntakeViewer";
import { Drop } from "./drop/Drop";
import { Backups, Verify } from "./Verify";
import { several } from "../../parts/several";

type FolderData = Schemas["FolderOut"];

function Pages({ page, pages, onPage }: { page: number; pages: number; onPage: (page: number) => void }) {
  if (pages < 2) return null;
  return (
    <p className="flex items-center gap-3 py-3">
      <Button disabled={page <= 1} onClick={() => onPage(page - 1)}>
        Earlier
      </Button>
      <span className="num text-s">
        {page} of {pages}
      </span>
      <Button disabled={page >= pages} onClick={() => onPage(page + 1)}>
        Later
      </Button>
    </p>
  );
}

/** Frames whose files are not where they were: they keep their places until they are back, or let go. */
function Missing({ folder }: { folder: FolderData }) {
  const letGo = useChange(() =>
    get(api.POST("/api/folders/{folder_id}/let-go", { params: { path: { folder_id: folder.id } } })),
  );
  const [sure, setSure] = useState(false);
  const many = `${folder.missing.toLocaleString("en")} ${folder.missing === 1 ? "frame is" : "frames are"}`;
  return (
    <div className="pt-1">
      <p className="text-accent">
        {many} missing. {folder.missing === 1 ? "It keeps its" : "They keep their"} set and master until the
        next scan finds {folder.missing === 1 ? "it" : "them"} again.
      </p>
      {sure ? (
        <p className="flex flex-wrap items-center gap-2 pt-1 text-s">
          Only if the files are gone for good: their sets and masters lose them.
          <Button
            onClick={() => {
              setSure(false);
              letGo.mutate(undefined);
            }}
          >
            Let {folder.missing === 1 ? "it" : "them"} go
          </Button>
          <Button look="link" onClick={() => setSure(false)}>
            Keep
          </Button>
        </p>
      ) : (
        <Button
          look="link"
          aria-label={`Let what is missing in ${folder.path} go`}
          onClick={() => setSure(true)}
        >
          Let the missing go
        </Button>
      )}
      {letGo.error ? <Trouble error={letGo.error} /> : null}
    </div>
  );
}

/** The library's own folder: where what is shot and built here lies. */
function OwnFolder({ folder }: { folder: FolderData }) {
  const look = useChange(() =>
    get(api.POST("/api/folders/{folder_id}/scan", { params: { path: { folder_id: folder.id } } })),
  );
  const job = folder.job;
  return (
    <section className="border-t border-line pt-3">
      <h2 className="text-l font-semibold">The library’s own folder</h2>
      <p className="num break-all text-s">{folder.path}</p>
      <p className="pt-1 text-ink2">
        {several(folder.total, "frame")} shot or combined here.{" "}
        {folder.to_look_at > 0 && <span className="text-accent">{folder.to_look_at} to look at.</span>}{" "}
        {folder.scanned && `Looked through ${folder.scanned}.`}
      </p>
      {folder.trouble && <p className="text-accent">{folder.trouble}</p>}
      {folder.missing > 0 && <Missing folder={folder} />}
      {job ? (
        <JobHere job={job} doing="looking" />
      ) : (
        <Button className="mt-2" disabled={look.isPending} onClick={() => look.mutate(undefined)}>
          Look through it
        </Button>
      )}
      {look.error ? <Trouble error={look.error} /> : null}
    </section>
  );
}

function FolderCard({ folder }: { folder: FolderData }) {
  const again = useChange(() =>
    get(api.POST("/api/folders/{folder_id}/scan", { params: { path: { folder_id: folder.id } } })),
  );
  const forget = useChange(() =>
    get(api.DELETE("/api/folders/{folder_id}", { params: { path: { folder_id: folder.id } } })),
  );
  const watch = useChange((watched: boolean) =>
    get(
      api.PUT("/api/folders/{folder_id}/watched", {
        params: { path: { folder_id: folder.id } },
        body: { watched },
      }),
    ),
  );
  const act = useJobAction();
  const [sure, setSure] = useState(false);
  const job = folder.job;
  const kinds = folder.kinds.map((k) => `${k.count.toLocaleString("en")} ${k.name}`).join(", ");
  return (
    <li className="border border-line bg-card px-4 py-3">
      <p className="num break-all text-m">{folder.path}</p>
      <p className="pt-1 text-ink2">
        {folder.total
          ? `${kinds || "no frames"}.`
          : job
            ? ""
            : folder.passed_over
              ? "No frame that can be read was found in it."
              : "No frames were found in it."}{" "}
        {folder.passed_over && <span className="text-ink">{folder.passed_over} </span>}
        {folder.to_look_at > 0 && (
          <span className="whitespace-nowrap text-accent">{folder.to_look_at} to look at.</span>
        )}{" "}
        {folder.scanned && `Scanned ${folder.scanned}.`}
      </p>
      {folder.trouble && <p className="text-accent">{folder.trouble}</p>}
      {folder.missing > 0 && <Missing folder={folder} />}
      {job && (
        <div className="pt-2">
          <Bar share={job.progress} label={job.title} />
          <p className={`pt-1 text-s ${job.state === "interrupted" ? "text-accent" : "text-ink2"}`}>
            {job.state === "interrupted" ? "This scan was interrupted." : ""} {job.message}
          </p>
        </div>
      )}
      <div className="flex items-center gap-2 pt-2">
        {job?.can_stop && (
          <Button onClick={() => act.mutate({ id: job.id, action: "stop" })}>Stop the scan</Button>
        )}
        {job?.can_resume && (
          <Button look="accent" onClick={() => act.mutate({ id: job.id, action: "resume" })}>
            Go on with the scan
          </Button>
        )}
        {!job && (
          <Button
            disabled={again.isPending}
            aria-label={`Scan ${folder.path} again`}
            onClick={() => again.mutate(undefined)}
          >
            Scan again
          </Button>
        )}
        {!job && !sure && (
          <Button look="link" aria-label={`Take ${folder.path} off the list`} onClick={() => setSure(true)}>
            Take off the list
          </Button>
        )}
        {sure && (
          <>
            <span className="text-s">
              Its {folder.total.toLocaleString("en")} frames leave the library; its files stay as they are.
            </span>
            <Button
              onClick={() => {
                setSure(false);
                forget.mutate(undefined);
              }}
            >
              Take off
            </Button>
            <Button look="link" onClick={() => setSure(false)}>
              Keep
            </Button>
          </>
        )}
      </div>
      <label className="flex items-center gap-2 pt-2 text-s max-md:py-2">
        <input
          type="checkbox"
          checked={folder.watched}
          disabled={watch.isPending}
          onChange={(event) => watch.mutate(event.target.checked)}
        />
        Watch it: what comes in is taken in as soon as it is whole
      </label>
      {watch.error ? <Trouble error={watch.error} /> : null}
      {again.error ? <Trouble error={again.error} /> : null}
      {forget.error ? <Trouble error={forget.error} /> : null}
    </li>
  );
}

/** What headers say of the place, while nobody has said it. */
function PlaceTold({
  told,
  latitude,
  onTake,
}: {
  told: Schemas["PlaceToldOut"];
  latitude: string;
  onTake: (told: Schemas["PlaceToldOut"]) => void;
}) {
  return (
    <p className="flex flex-wrap items-center gap-2">
      {told.text}
      {latitude === "" && <Button onClick={() => onTake(told)}>Take it as the site’s</Button>}
    </p>
  );
}

function Site({ data }: { data: Schemas["IntakeOut"] }) {
  const [name, setName] = useState(data.site);
  const [zone, setZone] = useState(data.time_zone);
  const [latitude, setLatitude] = useState(data.latitude?.toString() ?? "");
  const [longitude, setLongitude] = useState(data.longitude?.toString() ?? "");
  const keep = useChange(() =>
    get(
      api.PUT("/api/site", {
        body: { name, time_zone: zone, latitude: degreesOf(latitude), longitude: degreesOf(longitude) },
      }),
    ),
  );
  const take = (told: Schemas["PlaceToldOut"]) => {
    setLatitude(told.latitude.toString());
    setLongitude(told.longitude.toString());
  };
  const moved = degreesOf(latitude) !== data.latitude || degreesOf(longitude) !== data.longitude;
  const changed = name !== data.site || zone !== data.time_zone || moved;
  return (
    <form
      className="flex flex-col gap-2 border-t border-line pt-3"
      onSubmit={(event) => {
        event.preventDefault();
        keep.mutate(undefined);
      }}
    >
      <h2 className="text-l font-semibold">Site</h2>
      <div className="grid grid-cols-[84px_1fr] items-center gap-2">
        <label htmlFor="site-name">Name</label>
        <input
          id="site-name"
          value={name}
          maxLength={80}
          onChange={(e) => setName(e.target.value)}
          className="h-8 rounded-sm border border-rule bg-card px-2"
        />
        <label htmlFor="site-zone">Time zone</label>
        <input
          id="site-zone"
          list="zones"
          value={zone}
          onChange={(e) => setZone(e.target.value)}
          className="h-8 rounded-sm border border-rule bg-card px-2"
        />
        <datalist id="zones">
          {data.zones.map((z) => (
            <option key={z} value={z} />
          ))}
        </datalist>
        <label htmlFor="site-north">Latitude</label>
        <span className="flex items-center gap-2">
          <Degrees id="site-north" value={latitude} onChange={setLatitude} />° north
        </span>
        <label htmlFor="site-east">Longitude</label>
        <span className="flex items-center gap-2">
          <Degrees id="site-east" value={longitude} onChange={setLongitude} />° east
        </span>
      </div>
      <p className="text-s text-ink2">
        A night runs from noon to noon by this clock, and is named by its evening. Its place tells the sun’s
        course; south and west are negative.
      </p>
      {data.place_told && <PlaceTold told={data.place_told} latitude={latitude} onTake={take} />}
      {changed && (
        <Button type="submit" look="ink" className="self-start" disabled={keep.isPending}>
          {zone !== data.time_zone ? "Count nights by this clock" : "Keep the site"}
        </Button>
      )}
      {keep.data && !changed && <p role="status">{keep.data.message}</p>}
      {keep.error ? <Trouble error={keep.error} /> : null}
    </form>
  );
}

/** Rigs that stand elsewhere: their frames that name no place have their nights by another clock. */
function RigZones({ data }: { data: Schemas["IntakeOut"] }) {
  const keep = useChange(({ rig, zone }: { rig: number; zone: string | null }) =>
    get(
      api.PUT("/api/rigs/{rig_id}/time-zone", {
        params: { path: { rig_id: rig } },
        body: { time_zone: zone },
      }),
    ),
  );
  const [typed, setTyped] = useState<Record<number, string>>({});
  if (data.rig_zones.length === 0) return null;
  return (
    <details className="border-t border-line pt-2">
      <summary className="cursor-pointer py-1">Rigs that stand in another time zone</summary>
      <ul>
        {data.rig_zones.map((rig) => {
          const now = typed[rig.rig_id] ?? rig.time_zone ?? "";
          return (
            <li key={rig.rig_id}>
              <form
                className="grid grid-cols-[84px_1fr_auto] items-center gap-2 py-1"
                onSubmit={(event) => {
                  event.preventDefault();
                  keep.mutate({ rig: rig.rig_id, zone: now.trim() || null });
                }}
              >
                <label htmlFor={`zone-${rig.rig_id}`} className="truncate" title={rig.name}>
                  {rig.name}
                </label>
                <input
                  id={`zone-${rig.rig_id}`}
                  list="zones"
                  value={now}
                  placeholder="as the site"
                  onChange={(e) => setTyped((t) => ({ ...t, [rig.rig_id]: e.target.value }))}
                  className="h-8 min-w-0 rounded-sm border border-rule bg-card px-2 placeholder:text-ink2"
                />
                <Button
                  type="submit"
                  disabled={now === (rig.time_zone ?? "") || keep.isPending}
                  aria-label={`Keep the time zone of ${rig.name}`}
                >
                  Keep
                </Button>
              </form>
            </li>
          );
        })}
      </ul>
      {keep.data && <p role="status">{keep.data.message}</p>}
      {keep.error ? <Trouble error={keep.error} /> : null}
    </details>
  );
}

const THOUGHT: Record<string, string> = {
  "in doubt": "only in names, so it asks for care",
  agree: "from names, which agree",
  right: "from names; you said that it is right",
  wrong: "in names; you said that it is not so, and it counts as not known",
};

/** What only files' names say of a set, and whether it is right. */
function Named({ set }: { set: Schemas["SetOut"] }) {
  const say = useChange((right: boolean | null) =>
    get(api.PUT("/api/sets/{set_id}/names", { params: { path: { set_id: set.id } }, body: { right } })),
  );
  const values = set.from_name.join(", ");
  const answered = set.names_say === "right" || set.names_say === "wrong";
  return (
    <span className={`block text-s ${set.names_say === "in doubt" ? "text-accent" : "text-ink2"}`}>
      {values}: {THOUGHT[set.names_say ?? ""]}.{" "}
      {answered ? (
        <TakeBack what={values} onClick={() => say.mutate(null)} />
      ) : (
        <>
          <button
            type="button"
            className="underline underline-offset-2"
            aria-label={`${values} of ${set.title}: it is right`}
            onClick={() => say.mutate(true)}
          >
            it is right
          </button>
          <button
            type="button"
            className="ml-3 underline underline-offset-2"
            aria-label={`${values} of ${set.title}: it is not so`}
            onClick={() => say.mutate(false)}
          >
            it is not so
          </button>
        </>
      )}
      {say.error ? <Trouble error={say.error} /> : null}
    </span>
  );
}

/** The build that goes on, or what the last one could not do, said where it was started. */
function BuildHere() {
  const jobs = useJobs();
  const act = useJobAction();
  const going = jobs.data?.alive.find((j) => j.kind === "build");
  const last = jobs.data?.ended.find((j) => j.kind === "build");
  if (going)
    return (
      <div className="flex items-center gap-4 pb-3" role="status">
        <span className="w-40">
          <Bar share={going.progress} label={going.title} />
        </span>
        <span className="flex-1 text-s text-ink2">{going.message}</span>
        {going.can_stop && (
          <Button onClick={() => act.mutate({ id: going.id, action: "stop" })}>Stop combining</Button>
        )}
        {going.can_resume && (
          <Button onClick={() => act.mutate({ id: going.id, action: "resume" })}>Go on combining</Button>
        )}
      </div>
    );
  if (!last || (last.state !== "failed" && last.troubles.length === 0)) return null;
  const troubles = last.state === "failed" ? [`${last.message} ${last.advice}`] : last.troubles;
  return (
    <div className="mb-3 border-l-4 border-accent bg-card px-4 py-2" role="alert">
      <p className="font-semibold">
        {last.state === "failed" ? "Combining had to stop." : `${last.title}: not all could be combined.`}
      </p>
      <ul>
        {[...new Set(troubles)].map((trouble) => (
          <li key={trouble}>{trouble}</li>
        ))}
      </ul>
    </div>
  );
}

const KINDS = ["", "light", "flat", "dark flat", "dark", "bias"];
const STATE: Record<string, string> = {
  loose: "loose frames",
  combined: "combined here",
  master: "a master",
  lights: "",
};

/** A set, and what can be done with it. */
function SetRow({
  set,
  onLook,
  onCombine,
}: {
  set: Schemas["SetOut"];
  onLook: () => void;
  onCombine: () => void;
}) {
  const told = [STATE[set.state] ?? set.state, set.come_since > 0 ? `${set.come_since} more since` : ""];
  return (
    <tr className="border-b border-line">
      <td className="w-[76px] py-1">{set.kind}</td>
      <td>
        {set.title}
        <span className="block text-s text-ink2 md:hidden">
          {[set.night, set.camera, ...told].filter(Boolean).join(", ")}
        </span>
        {set.names_say && <Named set={set} />}
        {set.missing && <span className="block pb-1 text-s text-accent">{set.missing}.</span>}
      </td>
      <td className="max-w-[180px] truncate pr-4 text-ink2 max-md:hidden" title={set.camera}>
        {set.camera}
      </td>
      <td className="num pr-6 text-right max-md:pr-3">{set.n_frames}</td>
      <td className="num pr-4 text-s whitespace-nowrap max-md:hidden" title={set.origin}>
        {set.night}
      </td>
      <td className="text-ink2 max-md:hidden">
        <span className="whitespace-nowrap">{told[0]}</span>
        {told[1] && <span className="text-ink">, {told[1]}</span>}
      </td>
      <td className="text-right whitespace-nowrap">
        <button
          type="button"
          className="underline underline-offset-2 max-md:py-3"
          aria-label={`Look at the ${set.kind} ${set.title} of ${set.night}`}
          onClick={onLook}
        >
          Look
        </button>
        {(set.can_build || set.come_since > 0) && (
          <button
            type="button"
            className="ml-3 underline underline-offset-2 max-md:py-3"
            aria-label={`Combine the ${set.kind} ${set.title} of ${set.night}`}
            onClick={onCombine}
          >
            {set.can_build ? "Combine" : "Combine anew"}
          </button>
        )}
      </td>
    </tr>
  );
}

function Sets({ onLook }: { onLook: (set: number) => void }) {
  const [page, setPage] = useState(1);
  const [kind, setKind] = useState("");
  const sets = useSets(page, kind);
  const build = useChange((ids: number[] | null) => get(api.POST("/api/builds", { body: { set_ids: ids } })));
  if (sets.error && !sets.data) return <Trouble error={sets.error} onRetry={() => void sets.refetch()} />;
  if (!sets.data) return <Waiting what="Sorting the sets" />;
  const data = sets.data;
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pb-2">
        <Segments
          label="Kind"
          value={kind}
          options={KINDS.map((k) => ({ value: k, label: k || "every kind" }))}
          onChange={(k) => {
            setKind(k);
            setPage(1);
          }}
        />
        <a className="underline underline-offset-2" href="/api/sets.csv">
          CSV
        </a>
        {data.to_build > 0 && (
          <Button
            look="ink"
            className="ml-auto"
            disabled={build.isPending}
            onClick={() => build.mutate(null)}
          >
            Combine {data.to_build} {data.to_build === 1 ? "set into a master" : "sets into masters"}
          </Button>
        )}
      </div>
      {build.error ? <Trouble error={build.error} /> : null}
      <BuildHere />
      <table className="w-full border-collapse">
        <thead>
          <tr className="narrow border-b border-ink text-left text-s text-ink2">
            <th className="py-1 font-normal">Kind</th>
            <th className="font-normal">Set</th>
            <th className="font-normal max-md:hidden">Camera</th>
            <th className="pr-6 text-right font-normal max-md:pr-3">Frames</th>
            <th className="font-normal max-md:hidden">Night</th>
            <th className="font-normal max-md:hidden">State</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {data.items.map((set) => (
            <SetRow
              key={set.id}
              set={set}
              onLook={() => onLook(set.id)}
              onCombine={() => build.mutate([set.id])}
            />
          ))}
        </tbody>
      </table>
      {data.items.length === 0 && <p className="py-4 text-ink2">No set of this kind yet.</p>}
      <Pages page={page} pages={data.pages} onPage={setPage} />
    </>
  );
}

const WHAT: Record<string, string> = {
  unreadable: "could not be read",
  lacking: "lacks a value",
  duplicate: "a copy",
  missing: "missing",
};

/** A file that is to be looked at: what is wrong with it, and what can be done. */
function Problem({
  item,
  busy,
  onLook,
  onBack,
}: {
  item: Schemas["ProblemOut"];
  busy: boolean;
  onLook: () => void;
  onBack: () => void;
}) {
  return (
    <li className="grid grid-cols-[minmax(180px,2fr)_120px_minmax(0,3fr)] max-xl:grid-cols-[minmax(0,2fr)_80px_minmax(0,3fr)] gap-4 max-md:grid-cols-1 max-md:gap-1 border-b border-line py-1.5">
      <span className="num text-s break-all">{item.path}</span>
      <span className="text-s text-ink2">{WHAT[item.state] ?? item.state}</span>
      <span className="wrap-break-word">
        {item.reason} <span className="text-ink2">{item.advice}</span>{" "}
        {item.state !== "missing" && (
          <button
            type="button"
            className="mr-3 underline underline-offset-2 hover:no-underline"
            aria-label={`Look at ${item.path}`}
            onClick={onLook}
          >
            {item.state === "duplicate" ? "see both" : "look at it"}
          </button>
        )}
        {item.state === "set aside" && (
          <button
            type="button"
            className="underline underline-offset-2 hover:no-underline"
            aria-label={`Put ${item.path} back`}
            disabled={busy}
            onClick={onBack}
          >
            put it back
          </button>
        )}
      </span>
    </li>
  );
}

function Problems({ onLook }: { onLook: (frame: number) => void }) {
  const [page, setPage] = useState(1);
  const [state, setState] = useState("");
  const problems = useProblems(page, state);
  const back = useChange((id: number) =>
    get(api.POST("/api/frames/{frame_id}/put-back", { params: { path: { frame_id: id } } })),
  );
  if (problems.error && !problems.data)
    return <Trouble error={problems.error} onRetry={() => void problems.refetch()} />;
  if (!problems.data) return <Waiting what="Listing" />;
  const data = problems.data;
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pb-2">
        <Segments
          label="What is wrong"
          value={state}
          options={[
            { value: "", label: "all" },
            ...data.counts.map((c) => ({ value: c.name, label: `${WHAT[c.name] ?? c.name} ${c.count}` })),
          ]}
          onChange={(s) => {
            setState(s);
            setPage(1);
          }}
        />
        <a className="underline underline-offset-2" href="/api/problems.csv">
          CSV
        </a>
      </div>
      {back.error && <Trouble error={back.error} />}
      {back.data && !back.error && <p role="status">{back.data.message}</p>}
      <ul className="border-t border-ink">
        {data.items.map((item) => (
          <Problem
            key={item.id}
            item={item}
            onLook={() => onLook(item.id)}
            onBack={() => back.mutate(item.id)}
            busy={back.isPending}
          />
        ))}
      </ul>
      {data.items.length === 0 && (
        <p className="py-4 text-ink2">Every file was read, and nothing that matters is lacking.</p>
      )}
      <Pages page={page} pages={data.pages} onPage={setPage} />
    </>
  );
}

/** Rigs that the headers of what came in propose. */
function Proposed() {
  const words = waiting(useProposal().data ?? { rigs: [], doubts: [], said_two: [], others: [] });
  if (!words) return null;
  return (
    <p className="pb-2" role="status">
      {words}: have a look on{" "}
      <Link className="underline" to="/rigs?proposed">
        Rigs
      </Link>
      .
    </p>
  );
}

/** The page Intake: name folders, see what their frames are, and what could not be read. */
export function Intake() {
  const intake = useIntake();
  const [params, setParams] = useSearchParams();
  const look = params.get("look") === "problems" ? "problems" : "sets";
  const looking = useIntakeLooking();
  const [path, setPath] = useState("");
  const add = useChange((text: string) => get(api.POST("/api/folders", { body: { path: text } })));
  if (intake.error && !intake.data)
    return (
      <div className="p-6">
        <Trouble error={intake.error} onRetry={() => void intake.refetch()} />
      </div>
    );
  if (!intake.data) return <Waiting what="Opening the door" />;
  const data = intake.data;
  const all = [...data.folders, data.own];
  const total = all.reduce((sum, f) => sum + f.total, 0);
  const trouble = all.reduce((sum, f) => sum + f.to_look_at, 0);
  const headline = data.folders.length
    ? `${several(total, "frame")} read${trouble ? `, ${trouble} to look at` : ""}.`
    : "Name a folder of frames.";
  return (
    <div className="px-6 pb-6 max-md:px-4">
      <PageHead title={headline}>
        <Link className="underline underline-offset-2" to="/intake/other">
          From another Gray Shelf
        </Link>
        {data.folders.length > 0 && (
          <>
            <Link className="underline underline-offset-2" to="/intake/mend">
              Say what is lacking or wrong
            </Link>
            <Link className="underline underline-offset-2" to="/intake/file">
              File frames
            </Link>
            <Link className="underline underline-offset-2" to="/intake/room">
              Room on the disks
            </Link>
          </>
        )}
      </PageHead>
      <Proposed />
      {data.doubted_kinds && (
        <p className="pb-2" role="status">
          {data.doubted_kinds}:{" "}
          <Link className="underline" to="/intake/mend">
            say which is right
          </Link>
          .
        </p>
      )}
      <div className="grid grid-cols-[380px_minmax(0,1fr)] max-xl:grid-cols-[320px_minmax(0,1fr)] gap-8 max-lg:grid-cols-1">
        <div className="flex flex-col gap-3">
          <form
            className="flex flex-col gap-2"
            onSubmit={(event) => {
              event.preventDefault();
              add.mutate(path, { onSuccess: () => setPath("") });
            }}
          >
            <label htmlFor="folder" className="font-semibold">
              A folder on this machine
            </label>
            <div className="flex gap-2">
              <input
                id="folder"
                value={path}
                onChange={(event) => setPath(event.target.value)}
                placeholder="/media/stick/frames"
                autoComplete="off"
                spellCheck={false}
                className="num h-8 min-w-0 flex-1 rounded-sm border border-rule bg-card px-2 placeholder:text-ink2"
              />
              <Button
                type="submit"
                look={data.folders.length ? "ink" : "accent"}
                disabled={!path.trim() || add.isPending}
              >
                Scan it
              </Button>
            </div>
            <p className="text-s text-ink2">
              It is read in place: nothing in it is moved, changed or deleted.
            </p>
          </form>
          {add.error ? <Trouble error={add.error} /> : null}
          <Drop />
          <ul className="flex flex-col gap-3">
            {data.folders.map((folder) => (
              <FolderCard key={folder.id} folder={folder} />
            ))}
          </ul>
          <Site key={`${data.time_zone}${data.site}${data.latitude}${data.longitude}`} data={data} />
          <RigZones data={data} />
          <OwnFolder folder={data.own} />
          <Verify />
          <Backups backups={data.backups} />
        </div>
        <section className="min-w-0">
          {data.folders.length > 0 && (
            <>
              <div className="flex gap-6 pb-3">
                {(["sets", "problems"] as const).map((which) => (
                  <button
                    key={which}
                    type="button"
                    aria-pressed={look === which}
                    onClick={() => setParams(which === "sets" ? {} : { look: which })}
                    className={`text-xl ${look === which ? "font-semibold" : "text-ink2 hover:text-ink"}`}
                    style={{ fontStretch: "88%" }}
                  >
                    {which === "sets" ? "Sets" : `To look at${trouble ? ` ${trouble}` : ""}`}
                  </button>
                ))}
              </div>
              {look === "sets" ? (
                <Sets onLook={(set) => looking.look("set", set)} />
              ) : (
                <Problems onLook={(frame) => looking.look("frame", frame)} />
              )}
            </>
          )}
        </section>
      </div>
      <IntakeViewer {...looking} />
    </div>
  );
}
