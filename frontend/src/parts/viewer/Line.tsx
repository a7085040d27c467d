import { scaleLinear } from "d3-scale";
import { useRef } from "react";

import type { Schemas } from "../../api/client";
import { SaveLinks } from "../SaveLinks";

const WIDTH = 292;
const HEIGHT = 132;
const EDGE = { left: 50, right: 6, top: 8, base: 112 };

/** Levels along a line as one path; where nothing is known it is broken. */
function pathOf(at: number[], level: (number | null)[], x: (v: number) => number, y: (v: number) => number) {
  let path = "";
  let pen = "M";
  level.forEach((value, i) => {
    if (value === null) {
      pen = "M";
      return;
    }
    path += `${pen}${x(at[i] ?? 0).toFixed(1)} ${y(value).toFixed(1)}`;
    pen = "L";
  });
  return path;
}

/** Levels along a row, a column, or from the middle outwards. */
export function Line({
  profile,
  digits,
  unit,
  name,
  csv,
}: {
  profile: Schemas["ProfileOut"];
  digits: number;
  unit: string;
  name: string;
  csv: string;
}) {
  const chart = useRef<SVGSVGElement>(null);
  const known = profile.level.filter((v): v is number => v !== null);
  if (known.length === 0) return <p className="text-ink2">No pixel on this line holds a number.</p>;
  // Single hot pixels would press all else flat: the ends are those of nearly all.
  const sorted = [...known].sort((a, b) => a - b);
  const low = sorted[Math.floor(sorted.length * 0.005)] ?? 0;
  const high = sorted[Math.ceil(sorted.length * 0.995) - 1] ?? 1;
  const room = (high - low) * 0.12 || Math.abs(high) * 1e-3 || 1;
  const x = scaleLinear([0, (profile.at.at(-1) ?? 1) + profile.step / 2], [EDGE.left, WIDTH - EDGE.right]);
  const y = scaleLinear([low - room, high + room], [EDGE.base, EDGE.top]);
  const [first, last] = [low - room, high + room];
  const within = profile.level.map((v) => (v === null ? null : Math.min(Math.max(v, first), last)));
  return (
    <figure>
      <svg
        ref={chart}
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        className="block w-full"
        role="img"
        aria-label={name}
      >
        <path
          d={`M${EDGE.left} ${EDGE.top}V${EDGE.base}H${WIDTH - EDGE.right}`}
          fill="none"
          stroke="var(--ink)"
        />
        {y.ticks(3).map((tick) => (
          <text
            key={tick}
            x={EDGE.left - 5}
            y={y(tick) + 4}
            textAnchor="end"
            fontSize="12"
            fill="var(--ink2)"
            className="num"
          >
            {tick.toFixed(digits > 2 ? Math.min(digits, 3) : digits)}
          </text>
        ))}
        {x.ticks(4).map((tick) => (
          <text
            key={tick}
            x={x(tick)}
            y={EDGE.base + 16}
            textAnchor="middle"
            fontSize="12"
            fill="var(--ink2)"
            className="num"
          >
            {tick}
          </text>
        ))}
        <path d={pathOf(profile.at, within, x, y)} fill="none" stroke="var(--ink)" />
      </svg>
      <figcaption className="flex items-baseline justify-between gap-2 text-s text-ink2">
        <span>
          {name}
          {unit && `, ${unit}`}
        </span>
        <SaveLinks chart={chart} name={name} files={[{ label: "CSV", href: csv }]} />
      </figcaption>
    </figure>
  );
}
