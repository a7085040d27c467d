import { useState } from "react";

import type { Schemas } from "../../api/client";

/** How many frames are enough: what so many cost the lights that use the master. */
export function Enough({ enough, frames }: { enough: Schemas["EnoughOut"]; frames: number }) {
  const most = enough.fewest + enough.percent.length - 1;
  const own = Math.min(Math.max(frames, enough.fewest), most);
  const [count, setCount] = useState(own);
  const percent = enough.percent[count - enough.fewest] ?? 0;
  const told = percent >= 10 ? percent.toFixed(0) : percent >= 1 ? percent.toFixed(1) : percent.toFixed(2);
  return (
    <section className="border-t border-line pt-3">
      <h3 className="narrow font-semibold">Enough?</h3>
      <label className="flex items-center gap-3">
        <input
          type="range"
          min={enough.fewest}
          max={most}
          value={count}
          aria-label="So many frames"
          aria-valuetext={`${count} frames add ${told} %`}
          className="w-56 accent-[var(--ink)]"
          onChange={(e) => setCount(Number(e.target.value))}
        />
        <span>
          <span className="num font-semibold">{count}</span> frames add{" "}
          <span className="num font-semibold">
            {told}
            {"\u2009"}%
          </span>{" "}
          to the noise of {enough.lights}
        </span>
      </label>
      {count !== own && (
        <button type="button" className="text-s text-ink2 underline" onClick={() => setCount(own)}>
          Back to its own {own}
        </button>
      )}
      {enough.ruled && <p className="pt-1 text-s text-ink2">{enough.ruled}</p>}
    </section>
  );
}
