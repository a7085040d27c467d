import { useEffect, useRef, useState } from "react";

import { api, asked, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, ColumnHead, Trouble } from "../../parts/basics";
import { FilterStamp } from "../../parts/FilterStamp";
import { SensorAfterwards } from "./SensorAfterwards";
import { filterName } from "../../parts/filterName";

type RunData = Schemas["RunOut"];
type Step = RunData["steps"][number];

const SERIES = new Set(["flats", "dark flats", "darks", "bias"]);
const FIELD = "num h-8 rounded-sm border border-rule bg-card px-2 text-right max-md:h-11";

function Line({ step, onChange }: { step: Step; onChange: (change: Partial<Schemas["SeriesIn"]>) => void }) {
  const [count, setCount] = useState(String(step.count));
  const out = step.state === "skipped";
  const frames = Math.round(Number(count));
  const fits = frames >= 1 && frames <= 1000;
  return (
    <li className="grid grid-cols-[1fr_auto_auto_auto] items-center gap-3 border-b border-line py-1">
      <span className={`flex items-center gap-2 ${out ? "text-ink2 line-through" : ""}`}>
        {step.filter_code && <FilterStamp code={step.filter_code} nm={step.passband_nm} />}
        {step.title}
      </span>
      <span className="num text-s text-ink2">{out ? "" : `${step.start_clock}–${step.end_clock}`}</span>
      <input
        type="number"
        min={1}
        max={1000}
        aria-label={`Frames of ${step.title}`}
        disabled={out}
        value={count}
        onChange={(event) => setCount(event.target.value)}
        onBlur={() =>
          fits && frames !== step.count ? onChange({ count: frames }) : setCount(String(step.count))
        }
        onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
        className={`${FIELD} w-20`}
      />
      <Button onClick={() => onChange({ left_out: !out })}>{out ? "Take in again" : "Leave out"}</Button>
    </li>
  );
}

/** Darks, bias or flats put on the end. */
function PutMore({ jobId }: { jobId: number }) {
  const path = { params: { path: { job_id: jobId } } };
  const more = asked.useQuery("get", "/api/runs/{job_id}/more", path, { retry: false });
  const [key, setKey] = useState("");
  const [frames, setFrames] = useState("");
  const put = useChange(
    (body: Schemas["MoreIn"]) => get(api.POST("/api/runs/{job_id}/more", { ...path, body })),
    () => setKey(""),
  );
  const offers = more.data?.offers ?? [];
  const chosen = offers.find((o) => o.key === key);
  if (offers.length === 0) return null;
  return (
    <form
      className="flex flex-wrap items-center gap-2 pt-2"
      onSubmit={(event) => {
        event.preventDefault();
        put.mutate({ key, frames: Number(frames) });
      }}
    >
      <select
        aria-label="More on the end"
        value={key}
        title={chosen?.why}
        onChange={(event) => {
          const offer = offers.find((o) => o.key === event.target.value);
          setKey(event.target.value);
          setFrames(String(offer?.frames ?? ""));
        }}
        className="h-8 min-w-0 flex-1 rounded-sm border border-rule bg-card px-2 max-md:h-11"
      >
        <option value="">More on the end…</option>
        {[...new Set(offers.map((o) => o.group))].map((group) => (
          <optgroup key={group} label={group}>
            {offers
              .filter((o) => o.group === group)
              .map((o) => (
                <option key={o.key} value={o.key}>
                  {o.title} ({o.text})
                </option>
              ))}
          </optgroup>
        ))}
      </select>
      {chosen && (
        <>
          <input
            aria-label="Frames of it"
            inputMode="numeric"
            value={frames}
            onChange={(event) => setFrames(event.target.value)}
            className={`${FIELD} w-16`}
          />
          <Button type="submit" disabled={put.isPending || !(Number(frames) >= 1)}>
            Put it on the end
          </Button>
        </>
      )}
      {put.error ? <Trouble error={put.error} /> : null}
    </form>
  );
}

/** When it has to be over, what becomes of the sensor, and an early end. */
function WhenItEnds({ run }: { run: RunData }) {
  const job = { params: { path: { job_id: run.job.id } } };
  const [until, setUntil] = useState(run.until);
  const finish = useChange(() => get(api.POST("/api/runs/{job_id}/finish", job)));
  const end = useChange((by: { until: string; sensor: RunData["sensor_then"] }) =>
    get(
      api.POST("/api/runs/{job_id}/end-by", {
        ...job,
        body: { until: by.until.trim() || null, sensor_then: by.sensor },
      }),
    ),
  );
  const current = run.steps.find((s) => s.id === run.current);
  return (
    <section>
      <ColumnHead>When it ends</ColumnHead>
      <form
        className="flex items-center gap-2 py-2"
        onSubmit={(event) => {
          event.preventDefault();
          end.mutate({ until, sensor: run.sensor_then });
        }}
      >
        <label className="flex items-center gap-2">
          not after
          <input
            value={until}
            placeholder="05:30"
            onChange={(event) => setUntil(event.target.value)}
            className={`${FIELD} w-20`}
          />
        </label>
        <Button type="submit" disabled={until === run.until || end.isPending}>
          {until.trim() ? "Set it" : "Take it back"}
        </Button>
      </form>
      <p className="text-s text-ink2">
        {run.by_hand
          ? "What has come in by then counts, and is built; the rest is left."
          : "No frame is begun that would end later; what was shot is built."}
      </p>
      {run.cools && (
        <div className="pt-3">
          <SensorAfterwards
            then={run.sensor_then}
            onChange={(sensor) => end.mutate({ until: run.until, sensor })}
          />
        </div>
      )}
      {end.error ? <Trouble error={end.error} /> : null}
      <div className="pt-4">
        <Button disabled={!current || finish.isPending} onClick={() => finish.mutate(undefined as never)}>
          {current?.filter_code
            ? `Finish ${filterName(current.filter_code)} and stop`
            : "Finish this one and stop"}
        </Button>
        <p className="pt-1 text-s text-ink2">
          What is being shot comes to its end
          {run.steps.some((s) => s.kind === "flats") && ", with the dark flats of all flats that are there"}.
        </p>
        {finish.error ? <Trouble error={finish.error} /> : null}
      </div>
    </section>
  );
}

/** What of a run has not begun: its numbers of frames, what is left out, when it has to be over, and an early end. */
export function ToCome({ run }: { run: RunData }) {
  const job = { params: { path: { job_id: run.job.id } } };
  const change = useChange((body: Schemas["SeriesIn"]) =>
    get(api.POST("/api/runs/{job_id}/series", { ...job, body })),
  );
  const top = useRef<HTMLElement>(null);
  // On a phone it stands below the sheet, out of sight.
  useEffect(() => {
    if (window.matchMedia("(max-width: 767px)").matches) void top.current?.scrollIntoView({ block: "start" });
  }, []);
  const open = run.steps.filter(
    (s) => SERIES.has(s.kind) && (s.state === "to do" || (s.state === "skipped" && s.done === 0)),
  );
  return (
    <>
      <section ref={top} className="min-h-0 overflow-y-auto max-md:scroll-mt-16 max-md:overflow-visible">
        <ColumnHead>Still to come</ColumnHead>
        <ul>
          {open.map((step) => (
            <Line
              key={`${step.id}:${step.count}:${step.state}`}
              step={step}
              onChange={(what) => change.mutate({ step_id: step.id, count: null, left_out: null, ...what })}
            />
          ))}
          {open.length === 0 && <li className="py-2 text-ink2">Nothing: this is the last of it.</li>}
        </ul>
        {change.error ? <Trouble error={change.error} /> : null}
        <PutMore jobId={run.job.id} />
      </section>
      <WhenItEnds run={run} />
    </>
  );
}
