import type { ReactNode } from "react";

import type { Schemas } from "../../api/client";
import { inkFor } from "../../parts/FilterStamp";

type Part = Schemas["PartOut"];
export type Kind = Part["kind"];

/** Width and height of one part in the drawing, and the line that the light runs along. */
export const W = 176;
export const H = 132;
const AXIS = 66;

/** How far from the axis the outermost ray runs: at the left of each part, where it bends, and at its right. */
const RAYS: Partial<Record<Kind, [number, number, number]>> = {
  light: [44, 44, 44],
  cover: [44, 44, 44],
  telescope: [44, 44, 30],
  rotator: [30, 27, 24],
  filters: [24, 21, 18],
  focuser: [18, 15, 12],
  camera: [12, 0, 0],
};

/** Where in its part the rays bend, or end. */
const BEND: Partial<Record<Kind, number>> = { light: 74, telescope: 34, camera: 112 };

/** The two outermost rays through a part. */
export function Rays({ kind }: { kind: Kind }) {
  const rays = RAYS[kind];
  if (!rays) return null;
  const [left, middle, right] = rays;
  const at = BEND[kind] ?? W / 2;
  const from = kind === "light" ? at : 0;
  const path = (sign: number) =>
    `M${from} ${AXIS + sign * (kind === "light" ? middle : left)}L${at} ${AXIS + sign * middle}` +
    (kind === "camera" ? "" : `L${W} ${AXIS + sign * right}`);
  return <path d={path(1) + path(-1)} fill="none" stroke="var(--line)" strokeWidth="1.4" />;
}

const line = { fill: "none", stroke: "var(--ink)", strokeWidth: 1.8 } as const;
const solid = { fill: "var(--card)", stroke: "var(--ink)", strokeWidth: 1.8 } as const;

function LightGlyph({ bare }: { bare: boolean }) {
  return (
    <g>
      <rect x="62" y="16" width="12" height="100" {...solid} />
      <path d="M68 22V110" stroke="var(--ink2)" strokeWidth="1" strokeDasharray="2 4" />
      {!bare && <path d="M92 14Q97 30 92 46T92 78T92 118" {...line} strokeWidth="1.2" />}
    </g>
  );
}

function CoverGlyph() {
  return (
    <g>
      <path d="M88 14V118" {...line} strokeWidth="3" strokeDasharray="16 6" />
      <circle cx="88" cy="14" r="3.5" fill="var(--ink)" />
    </g>
  );
}

function TelescopeGlyph() {
  return (
    <g>
      <path d="M20 14H44V20H150L176 32M20 118H44V112H150L176 100M20 14V118" {...line} />
      <path d="M34 20Q43 66 34 112Q25 66 34 20Z" {...solid} strokeWidth="1.4" />
    </g>
  );
}

function RotatorGlyph() {
  return (
    <g>
      <rect x="66" y="22" width="44" height="88" {...solid} />
      <path d="M80 22V110M96 22V110" stroke="var(--ink)" strokeWidth="1" />
      <path d="M72 12Q88 2 104 12M104 12L98 4M104 12L95 13" {...line} strokeWidth="1.4" />
    </g>
  );
}

/** As many as there are, up to nine, each with its passband. */
function FiltersGlyph({ codes }: { codes: { code: string; nm: number | null }[] }) {
  const shown = codes.slice(0, 9);
  const start = 88 - (shown.length * 13) / 2;
  return (
    <g>
      <rect x={start - 8} y="26" width={shown.length * 13 + 16} height="80" {...solid} />
      {shown.map(({ code, nm }, i) => (
        <g key={code}>
          <rect
            x={start + i * 13 + 3}
            y="38"
            width="7"
            height="56"
            fill="none"
            stroke="var(--ink)"
            strokeWidth="1.2"
          />
          <path d={`M${start + i * 13 + 3} 98h7`} stroke={inkFor(code, nm)} strokeWidth="3" />
        </g>
      ))}
    </g>
  );
}

function FocuserGlyph() {
  return (
    <g>
      <path d="M34 34H96V98H34ZM96 42H142V90H96Z" {...solid} />
      <circle cx="66" cy="110" r="9" {...solid} />
      <path
        d="M104 112H136M136 112l-6 -4M136 112l-6 4M104 112l6 -4M104 112l6 4"
        {...line}
        strokeWidth="1.4"
      />
    </g>
  );
}

function CameraGlyph() {
  return (
    <g>
      <path d="M44 40H72V24H150V108H72V92H44Z" {...solid} />
      <path d="M112 46V86" stroke="var(--ink)" strokeWidth="4" />
      <path d="M128 32V100M138 32V100" stroke="var(--ink2)" strokeWidth="1" />
    </g>
  );
}

const GLYPHS: Record<string, (drawn: Drawn) => ReactNode> = {
  light: ({ bare }) => <LightGlyph bare={bare} />,
  cover: () => <CoverGlyph />,
  telescope: () => <TelescopeGlyph />,
  rotator: () => <RotatorGlyph />,
  filters: ({ codes }) => <FiltersGlyph codes={codes} />,
  focuser: () => <FocuserGlyph />,
  camera: () => <CameraGlyph />,
};

interface Drawn {
  codes: { code: string; nm: number | null }[];
  /** Nothing hangs before the light. */
  bare: boolean;
}

/** A part as it stands in the light; what nobody knows is an outline, what is not there a thin line. */
export function Glyph({ part, ...drawn }: { part: Part } & Drawn) {
  const absent = part.moved_by === "absent";
  const draw = GLYPHS[part.kind];
  if (part.is_open || absent)
    return (
      <rect
        x="52"
        y="26"
        width="72"
        height="80"
        fill="none"
        stroke={absent ? "var(--line)" : "var(--accent)"}
        strokeWidth={absent ? 1.2 : 2}
        strokeDasharray="6 4"
      />
    );
  return draw ? draw(drawn) : null;
}
