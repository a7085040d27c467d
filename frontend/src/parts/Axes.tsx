import type { ScaleLinear } from "d3-scale";

type Scale = ScaleLinear<number, number>;

const whole = new Intl.NumberFormat("en", { maximumFractionDigits: 0 });

/** The axes of a chart: ink lines, ticks outwards, numbers in the fixed face. Levels at the left, any number below. */
export function Axes({
  x,
  y,
  left,
  right,
  top,
  base,
  xTicks,
  yTicks,
  covered = null,
}: {
  x: Scale;
  y: Scale;
  left: number;
  right: number;
  top: number;
  base: number;
  xTicks: number;
  yTicks: number;
  /** Where the answer is marked on both axes: numbers that its boxes would cut are left out. */
  covered?: { x: number; y: number } | null;
}) {
  const free = (at: number, by: number | undefined, room: number) =>
    by === undefined || Math.abs(at - by) > room;
  return (
    <>
      <path d={`M${left} ${top}V${base}H${right}`} stroke="var(--ink)" fill="none" />
      {y.ticks(yTicks).map((tick) => (
        <g key={tick}>
          <path d={`M${left - 5} ${y(tick)}h5`} stroke="var(--ink)" />
          {free(y(tick), covered?.y, 15) && (
            <text
              x={left - 9}
              y={y(tick) + 4}
              textAnchor="end"
              fontSize="12"
              className="num"
              fill="var(--ink2)"
            >
              {whole.format(tick)}
            </text>
          )}
        </g>
      ))}
      {x.ticks(xTicks).map((tick) => (
        <g key={tick}>
          <path d={`M${x(tick)} ${base}v5`} stroke="var(--ink)" />
          {free(x(tick), covered?.x, 62) && (
            <text
              x={x(tick)}
              y={base + 18}
              textAnchor="middle"
              fontSize="12"
              className="num"
              fill="var(--ink2)"
            >
              {tick}
            </text>
          )}
        </g>
      ))}
    </>
  );
}
