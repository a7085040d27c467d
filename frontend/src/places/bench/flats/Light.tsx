import { scaleLinear, scaleLog } from "d3-scale";
import { useRef, useState } from "react";

import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { Button, ColumnHead, Trouble } from "../../../parts/basics";
import { SaveLinks } from "../../../parts/SaveLinks";
import { TakeBack } from "../../../parts/TakeBack";
import { Label } from "../../../parts/Label";

type Sheet = Schemas["FlatSheetOut"];
type Panel = Schemas["PanelOut"];

const W = 736;
const H = 430;
const L = 62;
const R = 16;
const TOP = 16;
const BASE = 380;

/** Output against brightness: measured points and the curve through them; an earlier one under it, dashed. */
function PanelChart({ panel, rig }: { panel: Panel; rig: number }) {
  const chart = useRef<SVGSVGElement>(null);
  const { now, before } = panel;
  if (!now) return null;
  const outputs = now.line.map(([, o]) => o ?? 1);
  const x = scaleLinear()
    .domain([0, panel.highest])
    .range([L, W - R]);
  const y = scaleLog()
    .domain([Math.min(...outputs) / 1.6, 1.5])
    .range([BASE, TOP]);
  const d = (line: number[][]) => `M${line.map(([b, o]) => `${x(b ?? 0)} ${y(o ?? 1)}`).join("L")}`;
  const main = now.points[0]?.filter_code;
  return (
    <>
      <svg
        ref={chart}
        viewBox={`0 0 ${W} ${H}`}
        className="block w-full"
        role="img"
        aria-label={`Output of ${panel.source} against its brightness`}
      >
        <path d={`M${L} ${TOP}V${BASE}H${W - R}`} stroke="var(--ink)" fill="none" />
        {[1, 0.3, 0.1, 0.03, 0.01, 0.003, 0.001]
          .filter((v) => v >= (y.domain()[0] ?? 0))
          .map((v) => (
            <g key={v}>
              <path d={`M${L - 5} ${y(v)}H${W - R}`} stroke="var(--line)" />
              <Label x={L - 9} y={y(v) + 4} anchor="end" num>
                {v * 100} %
              </Label>
            </g>
          ))}
        {x.ticks(10).map((v) => (
          <g key={v}>
            <path d={`M${x(v)} ${BASE}v5`} stroke="var(--ink)" />
            <Label x={x(v)} y={BASE + 18} anchor="middle" num>
              {v}
            </Label>
          </g>
        ))}
        <rect x={L} y={TOP} width={x(panel.lowest) - L} height={BASE - TOP} fill="var(--band)" />
        <text
          transform={`translate(${x(panel.lowest / 2) + 4} ${BASE - 90}) rotate(-90)`}
          textAnchor="middle"
          fontSize="12"
          fill="var(--ink)"
        >
          dark or unsteady under {panel.lowest}
        </text>
        {before && <path d={d(before.line)} stroke="var(--ink2)" strokeDasharray="5 4" fill="none" />}
        <path d={d(now.line)} stroke="var(--ink)" strokeWidth="1.8" fill="none" />
        {now.points.map((p) => (
          <circle
            key={`${p.filter_code}${p.brightness}`}
            cx={x(p.brightness)}
            cy={y(p.output)}
            r={p.filter_code === main ? 5 : 3.5}
            fill={p.filter_code === main ? "var(--card)" : "var(--ink)"}
            stroke="var(--ink)"
            strokeWidth="1.6"
          >
            <title>{`${p.filter_code}, brightness ${p.brightness}: ${(100 * p.output).toPrecision(3)} %`}</title>
          </circle>
        ))}
        <Label x={W - R} y={H - 8} anchor="end">
          brightness
        </Label>
        <Label x={x(panel.lowest) + 8} y={TOP + 12}>
          output, of the highest
        </Label>
      </svg>
      <div className="flex items-baseline justify-between gap-4 pt-1 text-s text-ink2">
        <span>
          {now.shots} shots, {now.when}; rings: {main}, dots: other filters, which share it up to a factor
          {before && `; dashed: ${before.when}`}
        </span>
        <SaveLinks
          chart={chart}
          name={`panel-${panel.source.replaceAll(" ", "-").toLowerCase()}`}
          files={[{ label: "CSV", href: `/api/rigs/${rig}/flats/panel.csv` }]}
        />
      </div>
    </>
  );
}

/** The measurements of the light, and the way to let one count no more. */
function KeptCurves({ panel, rig }: { panel: Panel; rig: number }) {
  const act = useChange(({ id, what }: { id: number; what: "take-back" | "use" }) =>
    get(
      api.POST("/api/rigs/{rig_id}/flats/curves/{curve_id}/{what}", {
        params: { path: { rig_id: rig, curve_id: id, what } },
      }),
    ),
  );
  if (panel.kept.length === 0) return null;
  return (
    <section className="pt-3">
      <ColumnHead note="searches start from the newest">Measured</ColumnHead>
      <ul>
        {panel.kept.map((curve) => (
          <li key={curve.id} className="flex items-baseline gap-3 border-b border-line py-1">
            <span className={`num flex-1 ${curve.counts ? "font-semibold" : "text-ink2"}`}>
              {curve.text}
              {curve.taken_back && ", taken back"}
            </span>
            <TakeBack
              what={curve.text}
              taken={curve.taken_back}
              onClick={() => act.mutate({ id: curve.id, what: curve.taken_back ? "use" : "take-back" })}
            />
          </li>
        ))}
      </ul>
      {act.error && <Trouble error={act.error} />}
    </section>
  );
}

type Source = Schemas["SourceOut"];

interface Described {
  source: Source;
  set: (values: Partial<Source>) => void;
}

const box = "num h-8 rounded-sm border border-rule bg-card px-2 text-right";

/** A number of the light that may be unknown. */
function SourceNumber({
  source,
  set,
  name,
  label,
  width = "w-20",
}: Described & { name: "lowest" | "highest" | "pulse_hz" | "duty"; label: string; width?: string }) {
  return (
    <input
      type="number"
      step="any"
      aria-label={label}
      className={`${box} ${width}`}
      value={source[name] ?? ""}
      onChange={(e) => set({ [name]: e.target.value === "" ? null : Number(e.target.value) })}
    />
  );
}

/** How bright it can be set, and its pulses. */
function Shining({ source, set, bands }: Described & { bands: string | undefined }) {
  const number = { source, set };
  return (
    <>
      <label className="flex items-center justify-between gap-3">
        Its brightness can be set
        <input
          type="checkbox"
          className="accent-[var(--ink)]"
          checked={source.dimmable}
          onChange={(e) => set({ dimmable: e.target.checked })}
        />
      </label>
      {source.dimmable && (
        <span className="flex items-center justify-between gap-3">
          Brightness, from the lowest that is steady
          <span className="flex items-center gap-1.5">
            <SourceNumber {...number} name="lowest" label="Lowest brightness" width="w-16" /> to{" "}
            <SourceNumber {...number} name="highest" label="Highest brightness" />
          </span>
        </span>
      )}
      <span className="flex items-center justify-between gap-3">
        Pulses, where it is switched on and off
        <span className="flex items-center gap-1.5">
          <SourceNumber {...number} name="pulse_hz" label="Pulses a second" /> Hz, lit
          <SourceNumber {...number} name="duty" label="Share of the time that it is lit" width="w-16" />
        </span>
      </span>
      <p className="pt-1 text-s text-ink2">Lit is the share of the time, 0.4 for 40 %. {bands}</p>
    </>
  );
}

/** What can hang before it, each with its stops. */
function Diffusers({ source, set }: Described) {
  const diffusers = source.diffusers ?? [];
  const change = (i: number, values: Partial<(typeof diffusers)[number]>) =>
    set({ diffusers: diffusers.map((x, j) => (j === i ? { ...x, ...values } : x)) });
  return (
    <>
      <h3 className="pt-1 font-semibold">Can hang before it</h3>
      {diffusers.map((d, i) => (
        <span key={i} className="flex items-center gap-2">
          <input
            aria-label={`Name of diffuser ${i + 1}`}
            className="h-8 min-w-0 flex-1 rounded-sm border border-rule bg-card px-2"
            value={d.name}
            onChange={(e) => change(i, { name: e.target.value })}
          />
          <input
            type="number"
            step="0.1"
            aria-label={`Stops of diffuser ${i + 1}`}
            className={`${box} w-16`}
            value={d.stops}
            onChange={(e) => change(i, { stops: Number(e.target.value) })}
          />
          stops
          <button
            type="button"
            aria-label={`Take ${d.name || "it"} off the list`}
            className="h-8 w-8"
            onClick={() => set({ diffusers: diffusers.filter((_, j) => j !== i) })}
          >
            ×
          </button>
        </span>
      ))}
    </>
  );
}

/** What the light is: its range, its pulses, what can hang before it. */
function SourceForm({ data, rig }: { data: Sheet; rig: number }) {
  const known = data.sources.find((s) => s.name === data.source);
  const [source, setSource] = useState<Source>(
    known ?? { name: "", dimmable: true, lowest: 1, highest: 100, pulse_hz: null, duty: null, diffusers: [] },
  );
  const keep = useChange((sent: Source) =>
    get(api.POST("/api/rigs/{rig_id}/flats/source", { params: { path: { rig_id: rig } }, body: sent })),
  );
  const set = (values: Partial<Source>) => setSource((s) => ({ ...s, ...values }));
  const diffusers = source.diffusers ?? [];
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        keep.mutate(source);
      }}
    >
      <ColumnHead>The light</ColumnHead>
      <div className="flex flex-col gap-2 pt-3">
        {data.sources.length > 1 && (
          <label className="flex items-center justify-between gap-3">
            One that is known
            <select
              className="h-8 w-48 rounded-sm border border-rule bg-card px-2"
              value={data.sources.some((s) => s.name === source.name) ? source.name : ""}
              onChange={(e) => {
                const other = data.sources.find((s) => s.name === e.target.value);
                if (other) setSource(other);
              }}
            >
              <option value="">a new one</option>
              {data.sources.map((s) => (
                <option key={s.name}>{s.name}</option>
              ))}
            </select>
          </label>
        )}
        <label className="flex items-center justify-between gap-3">
          Name
          <input
            className="h-8 w-48 rounded-sm border border-rule bg-card px-2"
            value={source.name}
            onChange={(e) => set({ name: e.target.value })}
          />
        </label>
        <Shining source={source} set={set} bands={data.panel?.bands} />
        <Diffusers source={source} set={set} />
        <span className="flex gap-2 pt-1">
          <Button look="ink" type="submit" disabled={keep.isPending}>
            Keep this light
          </Button>
          <Button onClick={() => set({ diffusers: [...diffusers, { name: "", stops: 1 }] })}>
            Add a diffuser
          </Button>
        </span>
        {keep.data && !keep.error && <p role="status">{keep.data.message}</p>}
        {keep.error && <Trouble error={keep.error} />}
      </div>
    </form>
  );
}

/** What was done to the rig, that a setting may not have outlived. */
function Events({ data, rig }: { data: Sheet; rig: number }) {
  const [chosen, setChosen] = useState(0);
  const [what, setWhat] = useState("");
  const [on, setOn] = useState("");
  const enter = useChange((body: Schemas["EventIn"]) =>
    get(api.POST("/api/rigs/{rig_id}/events", { params: { path: { rig_id: rig } }, body })),
  );
  const back = useChange((event: Sheet["events"][number]) =>
    get(
      api.POST("/api/rigs/{rig_id}/events/{event_id}/{what}", {
        params: {
          path: { rig_id: rig, event_id: event.id, what: event.taken_back ? "use" : "take-back" },
        },
      }),
    ),
  );
  const usual = data.usual_events[chosen];
  return (
    <section>
      <ColumnHead>What was done to the rig</ColumnHead>
      <ul>
        {data.events.map((event) => (
          <li key={event.id} className="flex items-baseline gap-3 border-b border-line py-1.5">
            <span className="num w-20 shrink-0 text-s whitespace-nowrap text-ink2">{event.when}</span>
            <span className={`flex-1 ${event.taken_back ? "text-ink2 line-through" : ""}`}>{event.what}</span>
            <TakeBack what={event.what} taken={event.taken_back} onClick={() => back.mutate(event)} />
          </li>
        ))}
      </ul>
      <form
        className="flex flex-wrap items-center gap-2 pt-2"
        onSubmit={(e) => {
          e.preventDefault();
          if (!usual) return;
          enter.mutate(
            { kind: usual.kind, what: what.trim() || usual.what, on: on || null },
            {
              onSuccess: () => {
                setWhat("");
                setOn("");
              },
            },
          );
        }}
      >
        <select
          aria-label="Kind of event"
          className="h-8 rounded-sm border border-rule bg-card px-2"
          value={chosen}
          onChange={(e) => setChosen(Number(e.target.value))}
        >
          {data.usual_events.map((k, i) => (
            <option key={k.label} value={i}>
              {k.label}
            </option>
          ))}
        </select>
        <input
          type="date"
          aria-label="Day on which it was done; empty for now"
          title="The day on which it was done; empty: just now"
          className="num h-8 rounded-sm border border-rule bg-card px-1.5"
          value={on}
          onChange={(e) => setOn(e.target.value)}
        />
        <span className="flex w-full gap-2">
          <input
            aria-label="What was done"
            placeholder={usual?.what}
            className="h-8 min-w-0 flex-1 rounded-sm border border-rule bg-card px-2"
            value={what}
            onChange={(e) => setWhat(e.target.value)}
          />
          <Button type="submit" disabled={enter.isPending}>
            Enter it
          </Button>
        </span>
      </form>
      {(enter.error ?? back.error) && <Trouble error={enter.error ?? back.error} />}
    </section>
  );
}

/** The light of the rig: what it is, how it follows its brightness, what was done since. */
export function Light({ data, rig, onMeasure }: { data: Sheet; rig: number; onMeasure: () => void }) {
  const panel = data.panel;
  const alive = data.job?.can_stop === true;
  return (
    <div className="grid grid-cols-[minmax(0,776px)_minmax(380px,1fr)] items-start gap-6 max-lg:grid-cols-1">
      <section className="border border-line bg-card px-5 pt-3 pb-3">
        <h2 className="text-l font-semibold">
          {panel
            ? panel.title
            : data.sources.some((s) => s.name === data.source)
              ? `${data.source} cannot be dimmed`
              : "No light is entered yet"}
          {panel?.change && <span className="pl-3 text-m font-normal text-ink2">{panel.change}</span>}
        </h2>
        {panel?.now ? (
          <PanelChart panel={panel} rig={rig} />
        ) : (
          <p className="max-w-[52ch] py-6 text-l">
            {panel
              ? "Six shots in one filter and one in each other tell how bright each brightness is in every filter. Every later search then starts from it and needs one shot to confirm."
              : "Enter what light the flats are taken with, and whether its brightness can be set."}
          </p>
        )}
        {panel && !alive && (
          <Button
            look={panel.now ? "plain" : "accent"}
            className="mt-2"
            disabled={data.rows.length === 0}
            onClick={onMeasure}
          >
            {panel.now ? "Measure it again" : `Measure ${panel.source}`}
          </Button>
        )}
        {panel && <KeptCurves panel={panel} rig={rig} />}
      </section>
      <div className="flex flex-col gap-6">
        <SourceForm key={data.source} data={data} rig={rig} />
        <Events data={data} rig={rig} />
      </div>
    </div>
  );
}
