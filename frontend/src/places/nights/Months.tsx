import { useNavigate } from "react-router";

import type { Schemas } from "../../api/client";

type Month = Schemas["MonthOut"];

const DAYS = Array.from({ length: 31 }, (_, i) => i + 1);

/** A night of a month as a column: as high as its hours, dashed where something is lacking. */
function Night({ night, highest }: { night: Month["nights"][number]; highest: number }) {
  const navigate = useNavigate();
  const share = highest > 0 ? night.hours / highest : 0;
  return (
    <button
      type="button"
      title={night.text}
      aria-label={night.text}
      onClick={() => void navigate(`/nights/${night.night}`)}
      className="group flex h-full w-full items-end justify-center hover:bg-card"
    >
      {night.taken > 0 ? (
        <span
          className={`w-[70%] min-w-1 ${night.gaps > 0 ? "border-2 border-dashed border-accent bg-transparent" : "bg-ink"} group-hover:brightness-110`}
          style={{ height: `${Math.max(100 * share, 8)}%` }}
        />
      ) : (
        <span aria-hidden className="mb-0.5 h-1 w-1 rounded-full bg-ink2" />
      )}
    </button>
  );
}

/** Months at a glance: every night with its hours, and what a month came to. */
export function Months({ months }: { months: Month[] }) {
  const highest = Math.max(...months.flatMap((m) => m.nights.map((n) => n.hours)), 0);
  const columns = { gridTemplateColumns: "repeat(31, minmax(0, 1fr))" };
  return (
    <div className="min-w-0 flex-1">
      {months.map((month) => {
        const at = new Map(month.nights.map((n) => [n.day, n]));
        return (
          <section key={month.name} aria-label={month.name} className="border-t border-rule pt-2 pb-3">
            <div className="flex flex-wrap items-baseline gap-x-5">
              <h2 className="text-l font-semibold">{month.name}</h2>
              <span>
                <span className="num">{month.count}</span> {month.count === 1 ? "night" : "nights"}
              </span>
              <span className="num">{month.hours_text}</span>
              <span className="text-ink2">
                <span className="num">
                  {month.kept} of {month.taken}
                </span>{" "}
                {month.taken === 1 ? "light" : "lights"} kept
              </span>
              {month.gaps > 0 && (
                <span className="font-semibold text-accent">
                  {month.gaps} {month.gaps === 1 ? "set lacks" : "sets lack"} something
                </span>
              )}
            </div>
            <div className="grid h-20 items-end border-b-[3px] border-ink" style={columns}>
              {DAYS.slice(0, month.days).map((day) => {
                const night = at.get(day);
                return night ? <Night key={day} night={night} highest={highest} /> : <span key={day} />;
              })}
            </div>
            <div aria-hidden className="num grid text-center text-s text-ink2" style={columns}>
              {DAYS.slice(0, month.days).map((day) => (
                <span key={day} className={day % 5 === 0 || day === 1 ? "" : "max-md:invisible"}>
                  {day === 1 || day % 5 === 0 || at.has(day) ? day : ""}
                </span>
              ))}
            </div>
          </section>
        );
      })}
    </div>
  );
}
