import { Check } from "lucide-react";
import { useEffect, useRef, type ReactNode } from "react";

import type { Schemas } from "../../api/client";
import { FilterStamp } from "../../parts/FilterStamp";
import { GateSign } from "../../parts/Gate";
import { Bar } from "../../parts/basics";

/** Kinds of steps that are told by their number of frames. */
const SHOT = new Set(["flats", "dark flats", "darks", "bias"]);

type Step = Schemas["StepOut"];

/** The sheet on a phone: a column of times, one large thing to do, the action at the foot. */
export function PhoneList({
  headline,
  sub,
  steps,
  current,
  action,
  wants = false,
}: {
  headline: string;
  sub: string;
  steps: Step[];
  current: number | null;
  action: ReactNode;
  wants?: boolean;
}) {
  const here = useRef<HTMLLIElement>(null);
  useEffect(() => {
    here.current?.scrollIntoView({ block: "center" });
  }, [current]);
  const shown = steps.filter(
    (s) =>
      s.state !== "skipped" &&
      s.kind !== "build" &&
      (s.kind !== "find" || s.id === current || s.state === "no answer"),
  );
  return (
    <div className={`hidden flex-col max-md:flex ${action ? "pb-24" : ""}`}>
      <h1
        className={`pt-4 text-xxl font-semibold ${wants ? "text-accent" : ""}`}
        style={{ fontStretch: "88%" }}
      >
        {headline}
      </h1>
      <p className="pb-4 text-l">{sub}</p>
      <ol className="flex flex-col gap-1">
        {shown.map((step) => {
          const gate = step.kind === "gate";
          const now = step.id === current;
          return (
            <li key={step.id} ref={now ? here : undefined} className="grid grid-cols-[60px_1fr] items-center">
              <span className={`num text-l ${now ? "text-accent" : ""}`}>{step.start_clock}</span>
              {gate ? (
                <span
                  className={`flex h-[70px] items-center gap-4 border-2 px-4 text-xl font-semibold ${now ? "border-accent bg-accent text-accent-text" : "border-ink"}`}
                >
                  <GateSign gate={step.gate?.sign ?? ""} flat />
                  {step.title}
                  {now && ", now"}
                </span>
              ) : (
                <span
                  className={`flex min-h-12 flex-col justify-center gap-1 border-l-[3px] border-ink px-3 py-1.5 ${now ? "outline-2 outline-accent" : ""} ${step.state === "done" ? "text-ink2" : "bg-card"}`}
                >
                  <span className="flex items-center gap-3 text-l">
                    {step.filter_code && <FilterStamp code={step.filter_code} nm={step.passband_nm} />}
                    <span className="min-w-0 flex-1">
                      {SHOT.has(step.kind) ? `${step.count} ${step.kind}` : step.title}
                    </span>
                    <span
                      className={`num text-m ${step.state === "no answer" ? "text-accent" : "text-ink2"}`}
                    >
                      {step.state === "no answer"
                        ? "no answer"
                        : step.exposure && step.kind !== "cool"
                          ? `${step.exposure_known ? "" : "≈"}${step.exposure}`
                          : ""}
                    </span>
                    {step.state === "done" && <Check size={16} aria-label="done" className="shrink-0" />}
                  </span>
                  {now && step.count > 0 && <Bar share={step.done / step.count} label={step.title} />}
                </span>
              )}
            </li>
          );
        })}
      </ol>
      {action && (
        <div className="fixed inset-x-0 bottom-12 z-10 flex gap-3 border-t border-rule bg-board p-3 [&>button]:h-auto! [&>button]:min-h-14 [&>button]:flex-1 [&>button]:px-2 [&>button]:py-1.5 [&>button]:leading-tight [&>button]:whitespace-normal [&>button:first-child:not(:only-child)]:flex-[1.7]">
          {action}
        </div>
      )}
    </div>
  );
}
