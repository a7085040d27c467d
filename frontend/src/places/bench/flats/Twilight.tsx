import { useRef, useState } from "react";

import { api, get, type Schemas } from "../../../api/client";
import { useChange, useTwilight, type TwilightChoice } from "../../../api/hooks";
import { Button, Segments, Trouble, Waiting } from "../../../parts/basics";
import { SaveLinks } from "../../../parts/SaveLinks";
import { GateCard } from "../../../parts/Gate";
import { JobBar, JobCutShort } from "../../../parts/JobCards";
import { TwilightChart } from "./TwilightChart";
import { Where } from "./SkyPlace";
import { type Data, type Picking, SkyRows, usePicking } from "./SkyRows";

type At = "dusk" | "dawn" | "last";

/** What goes on with the sky: the gate, the next frame, how far it is. */
function Going({ data }: { data: Data }) {
  const job = data.job;
  if (!job) return null;
  if (data.gate) return <GateCard gate={data.gate} job={job} />;
  if (job.can_stop)
    return (
      <JobBar job={job} title={data.at === "dawn" ? "The sky at dawn" : "The sky at dusk"}>
        {data.next_text || job.message}
      </JobBar>
    );
  return <JobCutShort job={job} what="The twilight" />;
}

/** Which twilight is looked at. */
function WhichTwilight({
  data,
  choice,
  setChoice,
}: {
  data: Data;
  choice: TwilightChoice;
  setChoice: (choice: TwilightChoice) => void;
}) {
  const run = data.shows === "run";
  return (
    <div className="flex flex-wrap items-center gap-3">
      <Segments<At>
        label="Which twilight"
        value={run ? "last" : data.at}
        options={[
          { value: "dusk", label: "Dusk" },
          { value: "dawn", label: "Dawn" },
          ...(data.has_last ? [{ value: "last" as const, label: "The last one" }] : []),
        ]}
        onChange={(value) =>
          setChoice(value === "last" ? { at: value } : { rows: run ? null : choice.rows, at: value })
        }
      />
      {!run && (
        <label className="flex items-center gap-1.5 text-s text-ink2">
          of
          <DayField data={data} onDay={(day) => setChoice({ ...choice, at: data.at, day })} />
        </label>
      )}
    </div>
  );
}

/** The course of the sky, with the flats in it. */
function SkyCard({ data, rig, choice }: { data: Data; rig: number; choice: TwilightChoice }) {
  const svg = useRef<SVGSVGElement>(null);
  const [told, setTold] = useState<string | null>(null);
  const run = data.shows === "run";
  const asked = encodeURIComponent(JSON.stringify({ ...choice, at: run ? "last" : data.at }));
  return (
    <section className="border border-line bg-card px-5 pt-3 pb-2 max-md:px-3">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <h2 className="text-xxl font-semibold" style={{ fontStretch: "88%" }}>
          {data.title}
        </h2>
        <p className="text-s text-ink2">{data.under}</p>
      </div>
      <div>
        <TwilightChart data={data} chosen={told} onChoose={setTold} chart={svg} />
      </div>
      <div className="flex items-baseline justify-between gap-4 pt-0.5">
        <p className="min-h-5 text-s text-ink2">{told ?? data.fade_text}</p>
        <SaveLinks
          chart={svg}
          name={`twilight-${data.at}-${data.day}`}
          files={[
            { label: "CSV", href: `/api/rigs/${rig}/twilight.csv?choice=${asked}` },
            ...(run ? [{ label: "Frames CSV", href: `/api/rigs/${rig}/twilight/frames.csv` }] : []),
          ]}
        />
      </div>
    </section>
  );
}

/** Begins to shoot what was picked. */
function ShootSky({
  data,
  rig,
  late,
  picking,
  onStarted,
}: {
  data: Data;
  rig: number;
  late: boolean;
  picking: Picking;
  onStarted: () => void;
}) {
  const start = useChange(
    (body: Schemas["StartTwilightIn"]) =>
      get(api.POST("/api/rigs/{rig_id}/twilight/start", { params: { path: { rig_id: rig } }, body })),
    onStarted,
  );
  const planned = data.rows.reduce((sum, r) => sum + r.planned, 0);
  const { total, wanted } = picking;
  const [folder, setFolder] = useState("");
  const lacks = data.by_folder ? !folder.trim() : !data.can_shoot;
  return (
    <>
      {data.by_folder && (
        <input
          aria-label="Folder that your camera program writes to"
          placeholder="Folder that your camera program writes to"
          value={folder}
          onChange={(event) => setFolder(event.target.value)}
          className="num h-9 rounded-sm border border-rule bg-card px-2 max-md:h-11"
        />
      )}
      <Button
        look="accent"
        large
        className="self-start"
        disabled={lacks || start.isPending || late || total === 0}
        onClick={() =>
          start.mutate({ at: data.at, rows: wanted, folder: data.by_folder ? folder.trim() : null })
        }
      >
        {planned < total ? `Shoot what fits, ${planned} flats` : `Shoot these ${total} flats`}
      </Button>
      {data.cannot && <p className="text-ink2">{data.cannot}</p>}
      {start.error && <Trouble error={start.error} />}
    </>
  );
}

/** Flats on the twilight sky: when each filter's sky is there, in which order, how many fit; and shooting them. */
export function Twilight({ rig }: { rig: number }) {
  const [choice, setChoice] = useState<TwilightChoice>({});
  const page = useTwilight(rig, choice);
  const data = page.data;
  const picking = usePicking(data, choice, setChoice);
  if (!data)
    return page.error ? (
      <Trouble error={page.error} onRetry={() => void page.refetch()} />
    ) : (
      <Waiting what="Following the sun" />
    );
  if (!data.place) return <Where rig={rig} told={data.place_told} />;
  const run = data.shows === "run";
  // What was picked counts at once; the layout for it follows when the server has it.
  const late = page.isPlaceholderData;
  return (
    <div className="grid grid-cols-[minmax(0,776px)_minmax(400px,1fr)] items-start gap-6 max-lg:grid-cols-1">
      <SkyCard data={data} rig={rig} choice={choice} />
      <div className="flex flex-col gap-4">
        {data.job && <Going data={data} />}
        {data.job?.can_stop !== true && <WhichTwilight data={data} choice={choice} setChoice={setChoice} />}
        {!run && data.missed_text && !choice.rows && <p role="note">{data.missed_text}</p>}
        <SkyRows data={data} late={late} picking={picking} />
        {!run && (
          <ShootSky data={data} rig={rig} late={late} picking={picking} onStarted={() => setChoice({})} />
        )}
        {data.failed.map((text) => (
          <p key={text} className="border-l-4 border-accent pl-3" role="alert">
            {text}
          </p>
        ))}
        <p className="text-s text-ink2">
          {data.place}. {data.known_text}
          {!run && data.last_text && <span className="block pt-1">The last one, {data.last_text}.</span>}
        </p>
      </div>
    </div>
  );
}

/** The day of a twilight. What is being typed stands until it is left: a year begins with one digit. */
function DayField({ data, onDay }: { data: Data; onDay: (day: string | null) => void }) {
  const [typed, setTyped] = useState<string | null>(null);
  return (
    <input
      type="date"
      aria-label="Day"
      min={data.first_day}
      max={data.last_day}
      className="num h-[26px] rounded-sm border border-rule bg-card px-1.5 text-m text-ink"
      value={typed ?? data.day}
      onChange={(e) => {
        setTyped(e.target.value);
        if (e.target.value && e.target.validity.valid) onDay(e.target.value);
      }}
      onBlur={() => {
        if (typed === "") onDay(null);
        setTyped(null);
      }}
    />
  );
}
