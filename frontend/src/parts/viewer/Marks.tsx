import type { Drawn } from "./Aside";

type Place = (pixel: { x: number; y: number }) => { x: number; y: number };

/** A round thing on a picture, in its pixels. */
export interface Circle {
  x: number;
  y: number;
  diameter: number;
  label: string;
  /** Drawn by itself, as what is looked at now. */
  chosen: boolean;
  dashed?: boolean;
}

/** Circles about what was found on a picture, each with its number. */
export function Circles({ circles, place, scale }: { circles: Circle[]; place: Place; scale: number }) {
  return (
    <>
      {circles.map((circle, index) => {
        const at = place(circle);
        const r = Math.max((circle.diameter * scale) / 2 + 3, 8);
        return (
          <g key={index}>
            <circle
              cx={at.x}
              cy={at.y}
              r={r}
              fill="none"
              stroke="var(--card)"
              strokeWidth="4"
              opacity="0.55"
            />
            <circle
              cx={at.x}
              cy={at.y}
              r={r}
              fill="none"
              stroke={circle.chosen ? "var(--accent)" : "var(--ink)"}
              strokeWidth={circle.chosen ? 2.5 : 1.5}
              strokeDasharray={circle.dashed ? "5 4" : undefined}
            />
            {circle.label && (
              <text
                x={at.x + r * 0.72 + 3}
                // Below it where its upper end is out of sight.
                y={at.y - r > 14 ? at.y - r * 0.72 - 3 : at.y + r * 0.72 + 12}
                fontSize="12"
                className="num"
                fill="var(--ink)"
                stroke="var(--card)"
                strokeWidth="3"
                paintOrder="stroke"
              >
                {circle.label}
              </text>
            )}
          </g>
        );
      })}
    </>
  );
}

/** Where the line runs whose levels are drawn. */
export function LineMark({
  line,
  picture,
  place,
}: {
  line: Drawn;
  picture: { width: number; height: number };
  place: Place;
}) {
  if (line.along === "radius") return null;
  const [from, to] =
    line.along === "row"
      ? [place({ x: 0, y: line.y + 0.5 }), place({ x: picture.width, y: line.y + 0.5 })]
      : [place({ x: line.x + 0.5, y: 0 }), place({ x: line.x + 0.5, y: picture.height })];
  const path = `M${from.x} ${from.y}L${to.x} ${to.y}`;
  return (
    <>
      <path d={path} stroke="var(--card)" strokeWidth="3" opacity="0.5" />
      <path d={path} stroke="var(--ink)" strokeDasharray="6 4" />
    </>
  );
}
