import { scaleLinear } from "d3-scale";

import type { Schemas } from "../../api/client";
import { Axes } from "../../parts/Axes";
import { Label } from "../../parts/Label";

type Search = Schemas["SearchOut"];

const W = 480;
const H = 262;
const L = 56;
const B = 40;
const T = 14;
const R = 16;

const adu = new Intl.NumberFormat("en", { maximumFractionDigits: 0 });

/** Level against exposure: the shots, the line through them, the target's band, what is permitted, the answer. */
export function ExposureChart({ search }: { search: Search }) {
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
  const right = x.domain()[1] ?? furthest;
  const found = search.found ? search.shots.at(-1) : undefined;
  const answer = search.rate ? search.found_s : null;
  const lineEnd = search.rate ? Math.min(right, (search.white - search.pedestal) / search.rate) : 0;
  const permitted = `permitted ${search.shortest} to ${search.longest} s`;
  return (
    <svg
      viewBox={`0 0 ${W} ${H}`}
      className="block w-full"
      role="img"
      aria-label={`Level against exposure for ${search.filter_code}, ${search.shots.length} ${search.shots.length === 1 ? "shot" : "shots"}`}
    >
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
      <rect
        x={L}
        y={T}
        width={Math.max(x(Math.min(search.shortest, right)) - L, 0)}
        height={H - B - T}
        fill="url(#outside)"
      />
      {search.longest < right && (
        <rect
          x={x(search.longest)}
          y={T}
          width={W - R - x(search.longest)}
          height={H - B - T}
          fill="url(#outside)"
        />
      )}
      <rect
        x={L}
        y={y(search.target + search.tolerance)}
        width={W - R - L}
        height={y(search.target - search.tolerance) - y(search.target + search.tolerance)}
        fill="var(--board)"
      />
      <path d={`M${L} ${y(search.target)}H${W - R}`} stroke="var(--rule)" />
      <path d={`M${L} ${y(search.white)}H${W - R}`} stroke="var(--ink2)" strokeDasharray="2 4" />
      <Label x={L + 8} y={y(search.white) + 15}>
        full, {adu.format(search.white)} ADU
      </Label>
      <Label x={W - R} y={y(search.target + search.tolerance) - 5} anchor="end" halo>
        target {adu.format(search.target)} ± {adu.format(search.tolerance)}
      </Label>
      {search.rate !== null && search.rate > 0 && (
        <path
          d={`M${x(0)} ${y(search.pedestal)}L${x(lineEnd)} ${y(search.pedestal + search.rate * lineEnd)}`}
          stroke="var(--ink)"
          strokeWidth="1.6"
          fill="none"
        />
      )}
      <Axes x={x} y={y} left={L} right={W - R} top={T} base={H - B} xTicks={6} yTicks={4} />
      <Label x={W - R} y={H - 6} anchor="end">
        exposure, s
      </Label>
      <Label x={L} y={H - 6}>
        {permitted}
      </Label>
      {answer !== null && found && (
        <g>
          <path
            d={`M${x(answer)} ${y(found.level)}V${H - B}M${L} ${y(found.level)}H${x(answer)}`}
            stroke="var(--ink)"
            strokeWidth="2"
          />
          <rect x={x(answer) - 40} y={H - B} width="80" height="26" fill="var(--ink)" />
          <text
            x={x(answer)}
            y={H - B + 18}
            textAnchor="middle"
            fontSize="15"
            fontWeight="500"
            className="num"
            fill="var(--paper)"
          >
            {search.found}
          </text>
        </g>
      )}
      {search.shots.map((shot) => {
        const beyond = shot.exposure_s > right;
        const cx = beyond ? W - R - 12 : x(shot.exposure_s);
        return (
          <g key={shot.number}>
            <circle
              cx={cx}
              cy={y(shot.level)}
              r="10"
              fill="var(--card)"
              stroke={shot.ruler.inside ? "var(--ink)" : "var(--ink2)"}
              strokeWidth="1.6"
              strokeDasharray={shot.probe ? "3 2" : undefined}
            />
            <Label x={cx} y={y(shot.level) + 4.5} anchor="middle" size="13" num strong>
              {shot.number}
            </Label>
            {beyond && (
              <Label x={cx - 14} y={y(shot.level) + 4.5} anchor="end" num>
                {shot.exposure} →
              </Label>
            )}
          </g>
        );
      })}
    </svg>
  );
}
