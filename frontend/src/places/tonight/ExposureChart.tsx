import { scaleLinear } from "d3-scale";

import type { Schemas } from "../../api/client";
import { Axes } from "../../parts/Axes";
import { Label } from "../../parts/Label";
import { filterName } from "../../parts/filterName";

type Search = Schemas["SearchOut"];

const W = 480;
const H = 262;
const L = 56;
const B = 40;
const T = 14;
const R = 16;

const adu = new Intl.NumberFormat("en", { maximumFractionDigits: 0 });

/** Where things stand in the chart. */
function geometry(search: Search) {
  const reach = search.rate ? (search.target - search.pedestal) / search.rate : 0;
  const shots = search.shots.map((s) => s.exposure_s);
  // A first shot that was far too long must not squeeze the rest: it stands at the right edge, with its time.
  const furthest = reach
    ? Math.max(reach * 1.8, search.shortest * 1.6)
    : Math.max(...shots, search.shortest * 3);
  const x = scaleLinear()
    .domain([0, furthest * 1.12])
    .range([L, W - R])
    .nice(6);
  const y = scaleLinear()
    .domain([0, search.white * 1.04])
    .range([H - B, T]);
  return { x, y, right: x.domain()[1] ?? furthest };
}

type Geometry = ReturnType<typeof geometry>;

/** What is permitted, the band that is aimed at, and where the camera is full. */
function Ground({ search, g }: { search: Search; g: Geometry }) {
  const { x, y, right } = g;
  const [top, bottom] = [y(search.target + search.tolerance), y(search.target - search.tolerance)];
  const outside = { y: T, height: H - B - T, fill: "url(#outside)" };
  return (
    <>
      <defs>
        <pattern
          id="outside"
          width="7"
          height="7"
          patternUnits="userSpaceOnUse"
          patternTransform="rotate(45)"
        >
          <rect width="2" height="7" fill="var(--board)" />
        </pattern>
      </defs>
      <rect x={L} width={Math.max(x(Math.min(search.shortest, right)) - L, 0)} {...outside} />
      {search.longest < right && (
        <rect x={x(search.longest)} width={W - R - x(search.longest)} {...outside} />
      )}
      <rect x={L} y={top} width={W - R - L} height={bottom - top} fill="var(--board)" />
      <path d={`M${L} ${y(search.target)}H${W - R}`} stroke="var(--rule)" />
      <path d={`M${L} ${y(search.white)}H${W - R}`} stroke="var(--ink2)" strokeDasharray="2 4" />
      <Label x={L + 8} y={y(search.white) + 15}>
        full, {adu.format(search.white)} ADU
      </Label>
      <Label x={W - R} y={top - 5} anchor="end" halo>
        target {adu.format(search.target)} ± {adu.format(search.tolerance)}
      </Label>
    </>
  );
}

/** The exposure that was found, marked on both axes. */
function Answer({
  exposure,
  level,
  text,
  g,
}: {
  exposure: number;
  level: number;
  text: string | null;
  g: Geometry;
}) {
  const [x, y] = [g.x(exposure), g.y(level)];
  return (
    <g>
      <path d={`M${x} ${y}V${H - B}M${L} ${y}H${x}`} stroke="var(--ink)" strokeWidth="2" />
      <rect x={x - 40} y={H - B} width="80" height="26" fill="var(--ink)" />
      <Label x={x} y={H - B + 18} anchor="middle" size="15" weight="500" num onInk>
        {text}
      </Label>
    </g>
  );
}

/** A numbered test shot. */
function Shot({ shot, g }: { shot: Search["shots"][number]; g: Geometry }) {
  const beyond = shot.exposure_s > g.right;
  const [x, y] = [beyond ? W - R - 12 : g.x(shot.exposure_s), g.y(shot.level)];
  return (
    <g>
      <circle
        cx={x}
        cy={y}
        r="10"
        fill="var(--card)"
        stroke={shot.ruler.inside ? "var(--ink)" : "var(--ink2)"}
        strokeWidth="1.6"
        strokeDasharray={shot.probe ? "3 2" : undefined}
      />
      <Label x={x} y={y + 4.5} anchor="middle" size="13" num strong>
        {shot.number}
      </Label>
      {beyond && (
        <Label x={x - 14} y={y + 4.5} anchor="end" num>
          {shot.exposure} →
        </Label>
      )}
    </g>
  );
}

/** Level against exposure: the shots, the line through them, the target's band, what is permitted, the answer. */
export function ExposureChart({ search }: { search: Search }) {
  const g = geometry(search);
  const { x, y } = g;
  const { rate, pedestal } = search;
  const found = search.found ? search.shots.at(-1) : undefined;
  const answer = rate ? search.found_s : null;
  const lineEnd = rate ? Math.min(g.right, (search.white - pedestal) / rate) : 0;
  const shots = `${search.shots.length} ${search.shots.length === 1 ? "shot" : "shots"}`;
  return (
    <svg
      viewBox={`0 0 ${W} ${H}`}
      className="block w-full"
      role="img"
      aria-label={`Level against exposure for ${filterName(search.filter_code)}, ${shots}`}
    >
      <Ground search={search} g={g} />
      {rate !== null && rate > 0 && (
        <path
          d={`M${x(0)} ${y(pedestal)}L${x(lineEnd)} ${y(pedestal + rate * lineEnd)}`}
          stroke="var(--ink)"
          strokeWidth="1.6"
          fill="none"
        />
      )}
      <Axes x={x} y={y} left={L} right={W - R} top={T} base={H - B} xTicks={6} yTicks={4} />
      <Label x={W - R} y={H - 6} anchor="end">
        exposure, s
      </Label>
      <Label x={L} y={H - 6}>{`permitted ${search.shortest} to ${search.longest} s`}</Label>
      {answer !== null && found && <Answer exposure={answer} level={found.level} text={search.found} g={g} />}
      {search.shots.map((shot) => (
        <Shot key={shot.number} shot={shot} g={g} />
      ))}
    </svg>
  );
}
