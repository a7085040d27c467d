import type { Schemas } from "../api/client";

type RulerData = Schemas["RulerOut"];

/**
 * The tolerance ruler: a short rule, the tolerated band about its centre, the measured value as a tick.
 * Beyond the end of the rule the tick becomes an arrowhead and the distance is written beside it.
 */
export function Ruler({
  ruler,
  width = 88,
  text = true,
}: {
  ruler: RulerData;
  width?: number;
  text?: boolean;
}) {
  const exact = ruler.kind === "exact";
  const w = exact ? 32 : width;
  const age = ruler.kind === "age";
  const centre = age ? 4 : w / 2;
  const half = age ? (w - 8) * 0.4 : w / 2 / 2.5;
  const perUnit = half / (ruler.tolerance || 1);
  let x: number | null = centre;
  if (ruler.unknown) x = null;
  else if (exact) x = ruler.inside ? centre : w - 3;
  else if (ruler.distance !== null) x = centre + ruler.distance * perUnit;
  const beyond = x !== null && !exact && (x < 4 || x > w - 4) ? Math.sign(x - centre) : 0;
  const at = x === null ? null : beyond ? (beyond > 0 ? w - 6 : 6) : x;
  const colour = ruler.inside ? "var(--ink)" : "var(--accent)";
  const words = `${ruler.quantity}: ${ruler.text}${ruler.inside ? "" : ruler.unknown ? "" : ", out of tolerance"}`;
  return (
    <span className="inline-flex items-center gap-2 whitespace-nowrap" title={ruler.note || words}>
      <svg width={w} height="16" role="img" aria-label={words} className="shrink-0 overflow-visible">
        {!exact && (
          <rect
            x={age ? centre : centre - half}
            y="4"
            width={age ? half : half * 2}
            height="8"
            fill="var(--band)"
          />
        )}
        <path d={`M0.5 5v6M${w - 0.5} 5v6M0 8h${w}`} stroke="var(--rule)" fill="none" />
        <path d={`M${centre} 2v12`} stroke="var(--rule)" />
        {at !== null && <rect x={at - 1.25} y="0" width="2.5" height="16" fill={colour} />}
        {at !== null && beyond !== 0 && (
          <path d={`M${at + beyond * 6} 8l${-beyond * 5} -4v8z`} fill={colour} />
        )}
        {at === null && (
          <path d={`M${w / 2 - 5} 3l10 10m0 -10l-10 10`} stroke="var(--ink2)" strokeDasharray="2 2" />
        )}
      </svg>
      {text && (
        <span
          className={`num text-s ${ruler.inside || ruler.unknown ? "text-ink2" : "font-medium text-accent"}`}
        >
          {ruler.text}
          {ruler.from_name && <span aria-label=", only from a file’s name">*</span>}
          {ruler.by_hand && <span aria-label=", said by hand">†</span>}
        </span>
      )}
    </span>
  );
}
