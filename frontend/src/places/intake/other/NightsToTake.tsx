import { useState } from "react";

import type { Schemas } from "../../../api/client";
import { Button } from "../../../parts/basics";
import { several } from "../../../parts/several";

type Night = Schemas["SharedNightOut"];

/** Nights to choose from, all of them chosen at first. */
export function NightsToTake({
  nights,
  verb,
  busy,
  allFirst,
  onTake,
}: {
  nights: Night[];
  verb: string;
  busy: boolean;
  /** Whether all are chosen until a person says otherwise. */
  allFirst: boolean;
  onTake: (nights: string[]) => void;
}) {
  const every = nights.map((n) => n.night);
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set(allFirst ? every : []));
  const toggle = (night: string) => {
    const next = new Set(chosen);
    if (!next.delete(night)) next.add(night);
    setChosen(next);
  };
  const taken = every.filter((n) => chosen.has(n));
  return (
    <>
      <div className="flex flex-wrap items-center gap-3 pb-3">
        <Button look="ink" disabled={busy || taken.length === 0} onClick={() => onTake(taken)}>
          {verb}{" "}
          {taken.length === every.length
            ? "all of it"
            : `${taken.length} of ${several(every.length, "night")}`}
        </Button>
        <Button look="link" onClick={() => setChosen(new Set(taken.length === every.length ? [] : every))}>
          {taken.length === every.length ? "Choose none" : "Choose all"}
        </Button>
      </div>
      <ul aria-label="Nights" className="border-t border-line">
        {nights.map((n) => (
          <li key={n.night} className="border-b border-line">
            <label className="flex items-baseline gap-3 py-1 max-md:min-h-11 max-md:flex-wrap max-md:items-center">
              <input
                type="checkbox"
                className="accent-[var(--ink)]"
                checked={chosen.has(n.night)}
                onChange={() => toggle(n.night)}
              />
              <span className="num w-24 shrink-0 text-s">{n.title}</span>
              <span className="min-w-0 flex-1">{n.words}</span>
              <span className="num w-20 shrink-0 text-right text-s text-ink2">{n.size}</span>
            </label>
          </li>
        ))}
      </ul>
    </>
  );
}
