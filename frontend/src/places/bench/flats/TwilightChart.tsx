import { scaleLinear } from "d3-scale";
import type { ReactNode, RefObject } from "react";

import type { Schemas } from "../../../api/client";
import { inkFor } from "../../../parts/FilterStamp";
import { keyText } from "./keys";
import { Label } from "../../../parts/Label";
import { chartWidth, useChartWidth } from "../../../parts/chartWidth";
import { filterName } from "../../../parts/filterName";

type Data = Schemas["TwilightOut"];
type Row = Schemas["TwilightRow"];

const across = () => chartWidth(776);
const L = 74;
const R = 12;
const SUN = 88;
const LANE = 54;
const BAR = 24;
const halo = { paintOrder: "stroke", stroke: "var(--card)", strokeWidth: 4 } as const;

/** About how wide a text is at 12 px in the fixed face. */
const wide = (text: string) => text.length * 6.7;

/** What is written beside a row's block: how many flats, of which exposures. */
function saysOf(row: Row, run: boolean): string {
  const many = run
    ? `${row.done} of ${row.count}`
    : `${row.planned}${row.planned < row.count ? ` of ${row.count}` : ""}`;
  return row.exposures_text ? `${many}${run ? "" : " flats"}, ${row.exposures_text}` : many;
}

/** The sun over the time of a twilight, and below it for each filter when its sky is there and when it is shot. */
export function TwilightChart({
  data,
  chosen,
  onChoose,
  chart,
}: {
  data: Data;
  chosen: string | null;
  onChoose: (text: string | null) => void;
  chart: RefObject<SVGSVGElement | null>;
}) {
  useChartWidth();
  const run = data.shows === "run";
  const lanes = Math.max(data.rows.length, 1);
  const base = SUN + lanes * LANE + 6;
  const height = base + 48;
  const x = scaleLinear()
    .domain([data.from_x, data.to_x])
    .range([L, across() - R]);
  return (
    <svg
      ref={chart}
      viewBox={`0 0 ${across()} ${height}`}
      className="block w-full"
      role="img"
      aria-label={`${data.title}. ${data.rows.map((r) => `${r.key.filter_code} ${r.plan_text}`).join(", ")}`}
    >
      <Sun data={data} x={x} />
      {data.hours.map((mark) => (
        <g key={mark.text}>
          <path d={`M${x(mark.x)} ${SUN}V${base}`} stroke="var(--line)" />
          <path d={`M${x(mark.x)} ${base}v5`} stroke="var(--ink)" />
          <Label x={x(mark.x)} y={base + 20} anchor={x(mark.x) > across() - R - 16 ? "end" : "middle"} num>
            {mark.text}
          </Label>
        </g>
      ))}
      <path d={`M${L} ${base}H${across() - R}`} stroke="var(--ink)" />
      {data.rows.map((row, i) => (
        <Lane
          key={keyText(row.key)}
          row={row}
          top={SUN + i * LANE}
          x={x}
          run={run}
          chosen={chosen}
          onChoose={onChoose}
        />
      ))}
      <Legend rows={data.rows} run={run} y={base + 40} />
      {data.now_x !== null && (
        <g>
          <path d={`M${x(data.now_x)} ${SUN - 10}V${base}`} stroke="var(--accent)" strokeWidth="2" />
          <text
            x={x(data.now_x) + 6}
            y={SUN + 2}
            fontSize="12"
            fontWeight="600"
            fill="var(--accent)"
            {...halo}
          >
            now
          </text>
        </g>
      )}
      {data.rows.map((row, i) => (
        <LaneWords key={keyText(row.key)} row={row} top={SUN + i * LANE} x={x} run={run} />
      ))}
    </svg>
  );
}

/** What the signs mean that are there to be seen. */
function Legend({ rows, run, y }: { rows: Row[]; run: boolean; y: number }) {
  const shown = new Set(rows.flatMap((row) => row.shots.map((shot) => shot.what)));
  const all: [boolean, ReactNode, string][] = [
    [
      rows.some((row) => row.opens !== null),
      <rect width="16" height="11" fill="var(--band)" />,
      "the sky suits it",
    ],
    [!run, <rect width="16" height="11" fill="var(--ink)" />, "its flats"],
    [shown.has("flat"), <path d="M2 0v11m5-11v11m5-11v11" stroke="var(--ink)" strokeWidth="2.4" />, "flats"],
    [
      shown.has("look"),
      <circle cx="8" cy="5.5" r="3.2" fill="var(--card)" stroke="var(--ink)" strokeWidth="1.4" />,
      "a look",
    ],
    [
      shown.has("set aside"),
      <path d="M8 0v11" stroke="var(--accent)" strokeWidth="2.4" strokeDasharray="3 2" />,
      "set aside",
    ],
    [
      run && rows.some((row) => row.begins !== null),
      <rect width="16" height="11" fill="none" stroke="var(--ink)" strokeDasharray="4 3" />,
      "still to come",
    ],
  ];
  const signs = all.filter(([there]) => there);
  let at = L;
  return (
    <g fontSize="12" fill="var(--ink2)">
      {signs.map(([, sign, text]) => {
        const left = at;
        at += 40 + text.length * 5.6;
        return (
          <g key={text} transform={`translate(${left} ${y - 10})`}>
            {sign}
            <Label x="21" y="10">
              {text}
            </Label>
          </g>
        );
      })}
    </g>
  );
}

/** The sun's height over the horizon: a line through the whole degrees, each named. */
function Sun({ data, x }: { data: Data; x: (v: number) => number }) {
  const marks = data.sun;
  if (marks.length < 2) return null;
  const degrees = marks.map((m) => m.degree);
  const y = scaleLinear()
    .domain([Math.min(...degrees), Math.max(...degrees)])
    .range([SUN - 26, 26]);
  const every = marks.length > 12 ? 2 : 1;
  const base = degrees.includes(0) ? 0 : Math.min(...degrees);
  const horizon = marks.find((m) => m.degree === 0);
  // The horizon's own words stand at the left of it.
  const free = (px: number) => horizon === undefined || px > x(horizon.x) || x(horizon.x) - px > 80;
  return (
    <g>
      {base === 0 && <path d={`M${L} ${y(0)}H${across() - R}`} stroke="var(--ink2)" strokeDasharray="2 4" />}
      <path
        d={`M${marks.map((m) => `${x(m.x)} ${y(m.degree)}`).join("L")}`}
        stroke="var(--ink)"
        strokeWidth="1.6"
        fill="none"
      />
      {marks.map((mark) => {
        const [px, py, atHorizon] = [x(mark.x), y(mark.degree), mark.degree === 0];
        const named =
          mark.degree % every === 0 && Math.abs(mark.degree) > 1 && px < across() - R - 12 && free(px);
        return (
          <g key={mark.degree}>
            <circle
              cx={px}
              cy={py}
              r={atHorizon ? 5 : 2.5}
              fill={atHorizon ? "var(--card)" : "var(--ink)"}
              stroke="var(--ink)"
              strokeWidth="1.6"
            />
            {(atHorizon || named) && (
              <text
                x={atHorizon ? px - 10 : px}
                y={py - 9}
                textAnchor={atHorizon ? "end" : "middle"}
                fontSize="12"
                className={atHorizon ? "" : "num"}
                fill={atHorizon ? "var(--ink)" : "var(--ink2)"}
                {...halo}
              >
                {mark.text}
              </text>
            )}
          </g>
        );
      })}
      <Label x={L - 8} y={y(base) + 4} anchor="end">
        sun
      </Label>
    </g>
  );
}

function Lane({
  row,
  top,
  x,
  run,
  chosen,
  onChoose,
}: {
  row: Row;
  top: number;
  x: (v: number) => number;
  run: boolean;
  chosen: string | null;
  onChoose: (text: string | null) => void;
}) {
  const y = top + LANE - BAR - 8;
  const opens = row.opens === null ? null : x(row.opens);
  const shuts = row.shuts === null ? null : x(row.shuts);
  const begins = row.begins === null ? null : x(row.begins);
  const ends = row.ends === null ? null : x(row.ends);
  const [gain, binning] = row.gain_text.split(", ");
  return (
    <g>
      <title>{`${filterName(row.key.filter_code)}, ${row.gain_text}: ${row.window_text}; ${row.plan_text}. ${row.light_text}`}</title>
      <Label x={L - 12} y={y + 12} anchor="end" size="15" strong weight="600">
        {filterName(row.key.filter_code)}
      </Label>
      <path
        d={`M${L - 12 - Math.max(filterName(row.key.filter_code).length * 9, 12)} ${y + 16.5}H${L - 12}`}
        stroke={inkFor(row.key.filter_code, row.passband_nm)}
        strokeWidth="2.5"
      />
      <Label x={L - 12} y={y + 31} anchor="end" size="11">
        {gain}
      </Label>
      {binning && (
        <Label x={L - 12} y={y + 43} anchor="end" size="11">
          {binning}
        </Label>
      )}
      {opens !== null && shuts !== null && (
        <rect x={opens} y={y} width={Math.max(shuts - opens, 2)} height={BAR} fill="var(--band)" />
      )}
      {row.opens === null && (
        <Label x={L + 8} y={y + 16}>
          {row.plan_text}
        </Label>
      )}
      {begins !== null && ends !== null && (
        <rect
          x={begins}
          y={y + (run ? 0.8 : 0)}
          width={Math.max(ends - begins, 3)}
          height={BAR - (run ? 1.6 : 0)}
          fill={run ? "none" : "var(--ink)"}
          stroke={run ? "var(--ink)" : "none"}
          strokeWidth="1.6"
          strokeDasharray={run ? "4 3" : undefined}
        />
      )}
      {row.shots.map((shot) => (
        <g
          key={`${shot.x}${shot.text}`}
          onMouseEnter={() => onChoose(`${shot.text}${shot.why ? `. ${shot.why}` : ""}`)}
          onMouseLeave={() => onChoose(null)}
          opacity={chosen === null || chosen.startsWith(shot.text) ? 1 : 0.5}
        >
          {shot.what === "look" ? (
            <circle
              cx={x(shot.x)}
              cy={y + BAR / 2}
              r="3.2"
              fill="var(--card)"
              stroke="var(--ink)"
              strokeWidth="1.4"
            />
          ) : (
            <path
              d={`M${x(shot.x)} ${y}v${BAR}`}
              stroke={shot.what === "flat" ? "var(--ink)" : "var(--accent)"}
              strokeWidth="2.4"
              strokeDasharray={shot.what === "flat" ? undefined : "3 2"}
            />
          )}
        </g>
      ))}
    </g>
  );
}

/** What is written over a row's window; above everything, so that the line of now does not cross it. */
function LaneWords({ row, top, x, run }: { row: Row; top: number; x: (v: number) => number; run: boolean }) {
  if (row.opens === null) return null;
  const lost = row.planned === 0 && !run;
  const says = lost ? row.plan_text : saysOf(row, run);
  const from = x(Math.min(row.begins ?? Infinity, row.opens));
  const spills = from + wide(says) > across() - R;
  return (
    <text
      x={spills ? across() - R : from}
      y={top + LANE - BAR - 13}
      textAnchor={spills ? "end" : "start"}
      fontSize="12"
      className={lost ? "" : "num"}
      fill={lost ? "var(--accent)" : "var(--ink)"}
      {...halo}
    >
      {says}
    </text>
  );
}
