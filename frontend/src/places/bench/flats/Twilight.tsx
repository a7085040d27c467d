import { useRef, useState } from "react";
import { Link } from "react-router";

import { api, get, type Schemas } from "../../../api/client";
import { useChange, useTwilight, type TwilightChoice } from "../../../api/hooks";
import { Button, ColumnHead, Segments, Trouble, Waiting } from "../../../parts/basics";
import { Degrees, degreesOf } from "../../../parts/Degrees";
import { FilterStamp } from "../../../parts/FilterStamp";
import { SaveLinks } from "../../../parts/SaveLinks";
import { GateCard } from "../../../parts/Gate";
import { JobBar, JobCutShort } from "../../../parts/JobCards";
import { keyText } from "./keys";
import { TwilightChart } from "./TwilightChart";
import { filterName } from "../../../parts/filterName";

type Data = Schemas["TwilightOut"];
type Row = Schemas["TwilightRow"];
type Pick = Schemas["SkyRowOut"];
type At = "dusk" | "dawn" | "last";

/** Latitude and longitude, where nobody entered them yet; what headers tell stands there to be kept. */
function Where({ rig, told }: { rig: number; told: Data["place_told"] }) {
  const site = useChange((body: Schemas["PlaceIn"]) =>
    get(api.PUT("/api/rigs/{rig_id}/place", { params: { path: { rig_id: rig } }, body })),
  );
  const [north, setNorth] = useState(told?.latitude.toString() ?? "");
  const [east, setEast] = useState(told?.longitude.toString() ?? "");
  const [latitude, longitude] = [degreesOf(north), degreesOf(east)];
  return (
    <form
      className="flex max-w-[56ch] flex-col gap-3 border border-line bg-card px-8 py-8"
      onSubmit={(event) => {
        event.preventDefault();
        if (latitude !== null && longitude !== null) site.mutate({ latitude, longitude });
      }}
    >
      <h2 className="text-xl font-semibold">Where is the site?</h2>
      <p>The sun’s course over it tells when the sky suits each filter. To a tenth of a degree is enough.</p>
      <div className="grid grid-cols-[auto_1fr] items-center gap-x-3 gap-y-2">
        <label htmlFor="sky-north">Degrees north</label>
        <Degrees id="sky-north" value={north} onChange={setNorth} />
        <label htmlFor="sky-east">Degrees east</label>
        <Degrees id="sky-east" value={east} onChange={setEast} />
      </div>
      <p className="text-s text-ink2">
        South and west are negative. The clock that times are told by is set in{" "}
        <Link to="/intake" className="underline">
          Intake
        </Link>
        .
      </p>
      {told && <p>{told.text}</p>}
      <Button
        look="accent"
        large
        type="submit"
        className="self-start"
        disabled={latitude === null || longitude === null || site.isPending}
      >
        Keep the site
      </Button>
      {site.error && <Trouble error={site.error} />}
    </form>
  );
}

/** So many rows that are not picked stand open. */
const FEW = 7;
const LINE = "grid grid-cols-[20px_44px_72px_76px_1fr] items-center gap-2 border-b border-line py-1";

/** A row of the sheet to be picked: its tick, its number of flats, and when they would be shot. */
function PickLine({
  row,
  plan,
  count,
  most,
  onCount,
}: {
  row: Pick;
  /** What becomes of it; null while it is not known, or where it is not picked. */
  plan: Row | null;
  /** Flats that were picked; undefined where it is not picked. */
  count: number | undefined;
  most: number;
  onCount: (row: Pick, count: number | null) => void;
}) {
  const short = plan !== null && plan.planned < plan.count && plan.trouble === "";
  return (
    <li className={LINE}>
      <input
        type="checkbox"
        className="accent-[var(--ink)]"
        checked={count !== undefined}
        aria-label={`${filterName(row.key.filter_code)}, ${row.gain_text}`}
        onChange={(e) => onCount(row, e.target.checked ? Math.max(row.count, 1) : null)}
      />
      <FilterStamp code={row.key.filter_code} nm={row.passband_nm} />
      <span className="text-s leading-4 text-ink2">{row.gain_text}</span>
      <input
        type="number"
        min={1}
        max={most}
        aria-label={`Flats in ${filterName(row.key.filter_code)}`}
        className="num h-7 w-16 rounded-sm border border-rule bg-card px-1.5 text-right disabled:opacity-50"
        value={count ?? row.count}
        disabled={count === undefined}
        onChange={(e) => onCount(row, Math.min(Math.max(Math.round(Number(e.target.value)) || 0, 0), most))}
      />
      {plan && (
        <span className="text-s leading-4">
          <span className={short || plan.trouble ? "font-semibold text-accent" : ""}>
            {short && plan.begins !== null && `${plan.planned} of ${plan.count} fit, `}
            {plan.plan_text}
          </span>
          {plan.opens !== null && <span className="block text-ink2">{plan.window_text}</span>}
        </span>
      )}
    </li>
  );
}

/** A row that is being shot, or was. */
function RunLine({ row }: { row: Row }) {
  return (
    <li className={LINE}>
      <span aria-hidden className="num text-center">
        {row.state === "done" ? "✓" : row.state === "now" ? "›" : ""}
      </span>
      <FilterStamp code={row.key.filter_code} nm={row.passband_nm} />
      <span className="text-s leading-4 text-ink2">{row.gain_text}</span>
      <span className="num text-right whitespace-nowrap">
        {row.done} of {row.count}
      </span>
      <span
        className={`text-s leading-4 ${row.state === "short" ? "font-semibold text-accent" : "text-ink2"}`}
      >
        {row.plan_text}
        {row.set_aside > 0 && `, ${row.set_aside} set aside`}
      </span>
    </li>
  );
}

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

/** What is picked of the sheet for a twilight, and what is shot of it. */
function usePicking(
  data: Data | undefined,
  choice: TwilightChoice,
  setChoice: (choice: TwilightChoice) => void,
) {
  const [each, setEach] = useState("");
  const wanted = choice.rows ?? (data?.rows ?? []).map((r) => ({ key: r.key, count: r.count }));
  const pick = (rows: typeof wanted) => setChoice({ ...choice, at: data?.at, rows });
  return {
    wanted,
    countOf: new Map(wanted.map((w) => [keyText(w.key), w.count])),
    total: wanted.reduce((sum, w) => sum + w.count, 0),
    each,
    /** So many flats of every filter that is picked. */
    setEach: (typed: string) => {
      const value = Math.round(Number(typed));
      setEach(typed);
      if (data && value >= 1 && value <= data.most) pick(wanted.map((w) => ({ key: w.key, count: value })));
    },
    count: (row: Pick, value: number | null) => {
      const others = wanted.filter((w) => keyText(w.key) !== keyText(row.key));
      setEach("");
      pick(value === null ? others : [...others, { key: row.key, count: value }]);
    },
  };
}

type Picking = ReturnType<typeof usePicking>;

/** How many flats of each filter. */
function Each({ data, picking }: { data: Data; picking: Picking }) {
  const same = new Set(picking.countOf.values()).size === 1;
  return (
    <label className="flex items-center gap-1.5">
      each
      <input
        type="number"
        min={1}
        max={data.most}
        aria-label="Flats of each filter"
        placeholder={same ? String(picking.wanted[0]?.count ?? "") : "…"}
        className="num h-6 w-14 rounded-sm border border-rule bg-card px-1.5 text-right text-ink"
        value={picking.each}
        onChange={(e) => picking.setEach(e.target.value)}
      />
    </label>
  );
}

/** The rows of the sheet to be picked, or those of the run. */
function SkyRows({ data, late, picking }: { data: Data; late: boolean; picking: Picking }) {
  const run = data.shows === "run";
  const fewOthers = data.others.length <= FEW;
  const line = (row: Pick, plan: Row | null) => (
    <PickLine
      key={keyText(row.key)}
      row={row}
      plan={plan}
      count={picking.countOf.get(keyText(row.key))}
      most={data.most}
      onCount={picking.count}
    />
  );
  return (
    <section>
      <ColumnHead note={run ? undefined : <Each data={data} picking={picking} />}>
        {data.at === "dawn" ? "In the order of the dawn" : "In the order of the dusk"}
      </ColumnHead>
      <ul>
        {run && data.rows.map((row) => <RunLine key={keyText(row.key)} row={row} />)}
        {!run && data.rows.map((row) => line(row, late ? null : row))}
        {!run && fewOthers && data.others.map((row) => line(row, null))}
      </ul>
      {!run && !fewOthers && (
        <details>
          <summary className="cursor-pointer py-2 text-ink2">
            {data.others.length} more rows of the sheet
          </summary>
          <ul>{data.others.map((row) => line(row, null))}</ul>
        </details>
      )}
    </section>
  );
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
