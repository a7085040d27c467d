import { useNavigate } from "react-router";

import type { Schemas } from "../../api/client";
import { SmallSpine } from "../../parts/Spine";

interface Shown {
  list: Schemas["NightsOut"]["nights"];
  /** The night that is looked at. */
  shown: string | undefined;
}

/** The nights with lights, the newest first. */
export function NightList({ list, shown }: Shown) {
  const navigate = useNavigate();
  return (
    <nav aria-label="Nights">
      <ul>
        {list.map((n) => (
          <li key={n.night}>
            <button
              type="button"
              aria-current={n.night === shown ? "date" : undefined}
              onClick={() => void navigate(`/nights/${n.night}`)}
              className={`block w-full border-t border-line px-2.5 py-2 text-left ${n.night === shown ? "border-l-[3px] border-l-ink bg-card" : "hover:bg-card"}`}
            >
              <span className="flex items-baseline justify-between">
                <span>
                  <b className="font-semibold">{n.day}</b>{" "}
                  <span className="text-s text-ink2">{n.weekday}</span>
                </span>
                <span className="num text-s text-ink2">
                  {n.kept}/{n.taken}
                </span>
              </span>
              <span className="flex items-end justify-between gap-2">
                <span className="narrow truncate text-m">{n.targets.join(", ")}</span>
                <span className="flex gap-0.5" aria-label={n.marks.join(", ")}>
                  {n.marks.map((mark, i) => (
                    <span key={i} className="inline-block scale-y-[.62] [transform-origin:bottom]">
                      <SmallSpine step={1} care={mark === "fits with care"} gap={mark === "nothing fits"} />
                    </span>
                  ))}
                </span>
              </span>
            </button>
          </li>
        ))}
      </ul>
    </nav>
  );
}

/** The nights where there is no room for a list: chosen by the device’s own, which is made for a thumb. */
export function NightPick({ list, shown }: Shown) {
  const navigate = useNavigate();
  return (
    <select
      aria-label="Night"
      className="h-11 w-full rounded-sm border border-rule bg-card px-2"
      value={shown ?? ""}
      onChange={(event) => void navigate(`/nights/${event.target.value}`)}
    >
      {shown === undefined && <option value="">Choose a night</option>}
      {list.map((n) => (
        <option key={n.night} value={n.night}>
          {n.day} {n.weekday}: {n.targets.join(", ") || "no lights"}, {n.kept}/{n.taken}
        </option>
      ))}
    </select>
  );
}
