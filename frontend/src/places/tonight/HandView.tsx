import { Printer } from "lucide-react";
import { useEffect, useRef, type ReactNode } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Bar, Button, ColumnHead, Trouble } from "../../parts/basics";
import { CopyNumber } from "../../parts/CopyNumber";
import { FilterStamp } from "../../parts/FilterStamp";

type RunData = Schemas["RunOut"];
type Hand = Schemas["HandOut"];

/** As many marks as frames are asked for; those that are in are filled. */
function Ticks({ done, count }: { done: number; count: number }) {
  if (count > 60) return <Bar share={done / count} label={`${done} of ${count} frames`} />;
  return (
    <span role="img" aria-label={`${done} of ${count} frames are in`} className="flex flex-wrap gap-1">
      {Array.from({ length: count }, (_, i) => (
        <span key={i} className={`h-5 w-2.5 border border-ink ${i < done ? "bg-ink" : ""}`} />
      ))}
    </span>
  );
}

/** Files that came in and are not what was asked for, the newest first. */
function Refused({ hand }: { hand: Hand }) {
  const newest = hand.wrong_now ? hand.refused[0] : undefined;
  const older = hand.wrong_now ? hand.refused.slice(1) : hand.refused;
  if (hand.refused.length === 0) return null;
  return (
    <div className="pt-3">
      {newest && (
        <p role="alert" className="border-l-4 border-accent bg-card px-4 py-2 text-l">
          <span className="num text-m text-ink2">{newest.name}</span> <strong>{newest.why}</strong>
        </p>
      )}
      {older.length > 0 && (
        <ul className="pt-1 text-s text-ink2">
          {older.map((r, i) => (
            <li key={i}>
              <span className="num">{r.name}</span> {r.why}
            </li>
          ))}
        </ul>
      )}
      <p className="pt-1 text-s text-ink2">What is not as asked is set aside: none of it enters a master.</p>
    </div>
  );
}

/** Steps that are shown: the others need nothing of a hand. */
const SHOWN = ["find", "flats", "dark flats", "darks", "bias"];

/** All that is to be shot, with what is in; a step is ticked off by hand, or opened again. */
function Steps({ run, onTick }: { run: RunData; onTick: (id: number, done: boolean) => void }) {
  return (
    <section>
      <ColumnHead
        note={run.hand?.folder ? `frames are waited for in ${run.hand.folder}` : "ticked off by hand"}
      >
        The sheet
      </ColumnHead>
      <ul>
        {run.steps
          .filter((s) => SHOWN.includes(s.kind))
          .map((step) => {
            const open = step.tick === "off";
            return (
              <li
                key={step.id}
                className={`flex min-h-10 items-center gap-3 border-b border-line py-1 max-md:min-h-11 ${step.id === run.hand?.step_id ? "font-semibold" : ""}`}
              >
                <span className="w-12 shrink-0">
                  {step.filter_code && <FilterStamp code={step.filter_code} nm={step.passband_nm} />}
                </span>
                <span className="min-w-0 flex-1">
                  {step.line || step.title}
                  {step.outcome && <span className="block text-s font-normal">{step.outcome}</span>}
                </span>
                <span className="num shrink-0 text-s font-normal text-ink2">
                  {step.kind === "find" ? (open ? "" : step.state) : `${step.done} of ${step.count}`}
                </span>
                {step.tick && (
                  <button
                    type="button"
                    className="shrink-0 text-s font-normal underline underline-offset-2 hover:no-underline max-md:min-h-11 print:hidden"
                    onClick={() => onTick(step.id, open)}
                  >
                    {open ? "tick off" : "open again"}
                    <span className="sr-only">: {step.title}</span>
                  </button>
                )}
              </li>
            );
          })}
      </ul>
    </section>
  );
}

/** A run that the person's own program shoots: one line of what to do next, and what has come in. */
export function HandView({ run, children }: { run: RunData; children?: ReactNode }) {
  const tick = useChange(({ id, done }: { id: number; done: boolean }) =>
    get(
      api.POST("/api/runs/{job_id}/tick", {
        params: { path: { job_id: run.job.id } },
        body: { step_id: id, done },
      }),
    ),
  );
  const hand = run.hand;
  const top = useRef<HTMLDivElement>(null);
  // The sheet was begun far down the page: what comes next stands at its head.
  useEffect(() => {
    // In braces: some browsers answer with a promise, which is no way to tidy up.
    void top.current?.scrollIntoView({ block: "end" });
  }, []);
  return (
    <div className="flex flex-col gap-6 pt-4" aria-live="polite">
      <div ref={top} className="-mt-4" />
      {hand && (
        <section
          aria-label="What to do next"
          className="border-b-[3px] border-ink bg-card px-6 py-5 max-md:px-4"
        >
          <p className="text-l text-ink2">{hand.before}</p>
          <p
            className="pt-1 text-[28px] leading-9 font-semibold max-md:text-xl max-md:leading-7"
            style={{ fontStretch: "92%" }}
          >
            {hand.what}
          </p>
          {hand.by_rig && <p className="pt-1 text-l">{hand.by_rig}</p>}
          {hand.why && <p className="pt-1 text-ink2">{hand.why}</p>}
          <div className="flex flex-wrap gap-2 pt-3 print:hidden">
            {hand.dials.map((dial) => (
              <CopyNumber key={dial.name} name={dial.name} copied={dial.copied} text={dial.text} />
            ))}
          </div>
          {hand.count > 0 && (
            <div className="pt-4">
              <Ticks done={hand.done} count={hand.count} />
            </div>
          )}
          <Refused hand={hand} />
        </section>
      )}
      {children && (
        <div className="grid grid-cols-[1.25fr_1fr_0.9fr] gap-7 max-md:grid-cols-1 print:hidden">
          {children}
        </div>
      )}
      {tick.error && <Trouble error={tick.error} />}
      <Steps run={run} onTick={(id, done) => tick.mutate({ id, done })} />
      <div className="print:hidden">
        <Button onClick={() => window.print()}>
          <Printer size={14} aria-hidden className="mr-1.5 inline" />
          Print the sheet
        </Button>
      </div>
    </div>
  );
}
