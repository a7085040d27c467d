import { Called } from "./PlanCard";
import type { Priced } from "./useBefore";
import { FilterStamp } from "../../parts/FilterStamp";
import { several } from "../../parts/several";

const INK: Record<string, string> = {
  hands: "bg-accent",
  searches: "hatch bg-board",
  flats: "bg-ink",
  "dark flats": "bg-ink2",
};

/** Where the time goes, drawn to one scale for both plans. */
function Causes({ price, longest }: { price: Priced; longest: number }) {
  if (price.causes.length === 0) return null;
  const said = price.causes.map((c) => `${c.what} ${c.text}`).join(", ");
  return (
    <div className="pt-1">
      <div role="img" aria-label={said} className="flex h-6 border border-ink bg-card">
        {price.causes.map((cause) => (
          <span
            key={cause.what}
            title={`${cause.what}, ${cause.text}`}
            className={`border-r border-paper ${INK[cause.what] ?? "bg-board"}`}
            style={{ width: `${(100 * cause.seconds) / Math.max(longest, 1)}%` }}
          />
        ))}
      </div>
      <ul className="flex flex-wrap gap-x-4 pt-1 text-s">
        {price.causes.map((cause) => (
          <li key={cause.what} className="flex items-center gap-1.5">
            <span aria-hidden className={`h-2.5 w-2.5 border border-ink ${INK[cause.what] ?? "bg-board"}`} />
            {cause.what} <span className="num text-ink2">{cause.text}</span>
          </li>
        ))}
      </ul>
    </div>
  );
}

/** What a plan costs, where that comes from, what it calls for, and what would cost less. */
export function PlanPrice({ price, longest }: { price: Priced; longest: number }) {
  return (
    <div>
      <p className="text-xl font-semibold">{price.headline}</p>
      <p className="text-s text-ink2">
        {several(price.lights, "light takes", "lights take")} {price.lights_take};{" "}
        {several(price.flats, "flat")} and {several(price.dark_flats, "dark flat")}
        {price.diffusers > 0 && `; the diffuser changes ${several(price.diffusers, "time")}`}
        {price.turns > 0 && `; the camera is turned by hand ${several(price.turns, "time")}`}.
      </p>
      <Causes price={price} longest={longest} />
      {price.notes.map((note) => (
        <p key={note} role="note" className="mt-2 border-l-4 border-accent pl-2.5">
          {note}
        </p>
      ))}
      {price.dark_time && <p className="pt-2 text-s text-ink2">{price.dark_time}.</p>}
      <div className="grid grid-cols-2 gap-x-6 max-md:grid-cols-1">
        <Called head="By filter">
          {price.filters.map((f) => (
            <li key={f.filter_code} className="flex items-center gap-2 border-b border-line py-1">
              <FilterStamp code={f.filter_code} nm={f.passband_nm} />
              <span className="num ml-auto">{f.text}</span>
            </li>
          ))}
          {price.filters.length === 0 && <li className="py-1 text-ink2">None.</li>}
        </Called>
        <Called head="Rounds of flats">
          {price.rounds.map((r) => (
            <li key={r.when + r.text} className="border-b border-line py-1">
              <span className="font-semibold">{r.when}</span>
              <span className="block text-s text-ink2">{r.text}</span>
            </li>
          ))}
          {price.rounds.length === 0 && <li className="py-1 text-ink2">None.</li>}
        </Called>
      </div>
      <Called head={`Darks: ${price.darks_text}`}>
        {price.darks.map((d) => (
          <li key={d.title} className="grid grid-cols-[1fr_auto] gap-2 border-b border-line py-1">
            <span>
              {d.title} <span className="text-s text-ink2">{several(d.lights, "light")}</span>
            </span>
            <span className={`text-s ${d.verdict === "nothing fits" ? "text-accent" : "text-ink2"}`}>
              {d.text}
            </span>
          </li>
        ))}
      </Called>
      {price.savings.length > 0 && (
        <Called head="What would cost less">
          {price.savings.map((s) => (
            <li key={s.way} className="grid grid-cols-[1fr_auto] gap-2 border-b border-line py-1">
              <span>{s.words}</span>
              <span className="text-s">{s.text}</span>
            </li>
          ))}
        </Called>
      )}
    </div>
  );
}
