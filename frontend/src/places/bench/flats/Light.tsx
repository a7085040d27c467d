import { scaleLinear, scaleLog } from "d3-scale";
import { useRef } from "react";

import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { Button, ColumnHead, Trouble } from "../../../parts/basics";
import { SaveLinks } from "../../../parts/SaveLinks";
import { TakeBack } from "../../../parts/TakeBack";
import { EventForm, useEventBack } from "../../../parts/EventForm";
import { Label } from "../../../parts/Label";
import { LightSheet } from "../../../parts/LightSheet";
import { chartWidth, useChartWidth } from "../../../parts/chartWidth";
import { filterName } from "../../../parts/filterName";
import type { Sheet } from "./keys";

type Panel = Schemas["PanelOut"];

const across = () => chartWidth(736);
const H = 430;
const L = 62;
const R = 16;
const TOP = 16;
const BASE = 380;

/** Output against brightness: measured points and the curve through them; an earlier one under it, dashed. */
function PanelChart({ panel, rig }: { panel: Panel; rig: number }) {
  const chart = useRef<SVGSVGElement>(null);
  useChartWidth();
  const { now, before } = panel;
  if (!now) return null;
  const outputs = now.line.map(([, o]) => o ?? 1);
  const x = scaleLinear()
    .domain([0, panel.highest])
    .range([L, across() - R]);
  const y = scaleLog()
    .domain([Math.min(...outputs) / 1.6, 1.5])
    .range([BASE, TOP]);
  const d = (line: number[][]) => `M${line.map(([b, o]) => `${x(b ?? 0)} ${y(o ?? 1)}`).join("L")}`;
  const main = now.points[0]?.filter_code;
  return (
    <>
      <svg
        ref={chart}
        viewBox={`0 0 ${across()} ${H}`}
        className="block w-full"
        role="img"
        aria-label={`Output of ${panel.source} against its brightness`}
      >
        <path d={`M${L} ${TOP}V${BASE}H${across() - R}`} stroke="var(--ink)" fill="none" />
        {[1, 0.3, 0.1, 0.03, 0.01, 0.003, 0.001]
          .filter((v) => v >= (y.domain()[0] ?? 0))
          .map((v) => (
            <g key={v}>
              <path d={`M${L - 5} ${y(v)}H${across() - R}`} stroke="var(--line)" />
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
            <title>{`${filterName(p.filter_code)}, brightness ${p.brightness}: ${(100 * p.output).toPrecision(3)} %`}</title>
          </circle>
        ))}
        <Label x={across() - R} y={H - 8} anchor="end">
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

/** What was done to the rig, that a setting may not have outlived. */
function Events({ data, rig }: { data: Sheet; rig: number }) {
  const back = useEventBack(rig);
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
      <EventForm usual={data.usual_events} rig={rig} />
      {back.error && <Trouble error={back.error} />}
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
        <LightSheet lights={data.sources} current={data.source} bands={data.panel?.bands} rig={rig} />
        <Events data={data} rig={rig} />
      </div>
    </div>
  );
}
