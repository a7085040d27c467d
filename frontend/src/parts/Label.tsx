import type { ReactNode } from "react";

/** A word or number in a chart: small and faint, unless it is said otherwise. */
export function Label({
  x,
  y,
  anchor,
  size = 12,
  num = false,
  strong = false,
  onInk = false,
  weight,
  halo = false,
  children,
}: {
  x: number | string;
  y: number | string;
  anchor?: "start" | "middle" | "end";
  size?: number | string;
  /** In the fixed face, for numbers. */
  num?: boolean;
  strong?: boolean;
  /** On a box of ink, in the colour of the paper. */
  onInk?: boolean;
  weight?: number | string;
  /** Lines that pass behind it are kept clear of it, in the colour of what it stands on. */
  halo?: boolean | "paper";
  children: ReactNode;
}) {
  const clear = halo && {
    paintOrder: "stroke",
    stroke: halo === "paper" ? "var(--paper)" : "var(--card)",
    strokeWidth: 4,
  };
  return (
    <text
      x={x}
      y={y}
      textAnchor={anchor}
      fontSize={size}
      fontWeight={weight}
      className={num ? "num" : undefined}
      fill={onInk ? "var(--paper)" : strong ? "var(--ink)" : "var(--ink2)"}
      {...(clear || {})}
    >
      {children}
    </text>
  );
}
