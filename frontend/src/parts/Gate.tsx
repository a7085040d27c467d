import type { Schemas } from "../api/client";
import { useAnswer } from "../api/hooks";
import { StopButton } from "./JobCards";
import { Button, Trouble } from "./basics";

type Gate = Schemas["GateOut"];

/** What has to be done at a gate, drawn: the panel before the telescope, the cap on it, a diffuser. */
export function GateSign({ gate, flat = false }: { gate: string; flat?: boolean }) {
  const tube = (
    <g fill="none" stroke="currentColor" strokeWidth="2.6">
      <path d="M6 30h22v24H6zM10 54h14v14H10zM13 68h8v9h-8z" />
    </g>
  );
  return (
    <svg aria-hidden viewBox="0 0 34 80" className={flat ? "h-14 w-6" : "h-20 w-9"}>
      {tube}
      {gate === "cap" || gate === "cover" ? <path d="M4 22h26v8H4z" fill="currentColor" /> : null}
      {gate === "panel" ? (
        <path
          d="M0 2h34v6H0zM9 13v8M17 13v8M25 13v8"
          fill="currentColor"
          stroke="currentColor"
          strokeWidth="2.4"
        />
      ) : null}
      {gate === "diffuser" ? (
        <path
          d="M0 2h34v6H0zM2 16h30"
          fill="currentColor"
          stroke="currentColor"
          strokeWidth="3"
          strokeDasharray="4 3"
        />
      ) : null}
      {gate === "sky" ? (
        <path d="M17 22V6M8 22L3 10M26 22l5-12M12 2h10" fill="none" stroke="currentColor" strokeWidth="2.4" />
      ) : null}
      {gate === "focus" ? (
        <path d="M17 4v16M11 12l6 8l6-8" fill="none" stroke="currentColor" strokeWidth="2.4" />
      ) : null}
    </svg>
  );
}

/** The ways to answer a gate. */
export function GateButtons({ gate, answer }: { gate: Gate; answer: ReturnType<typeof useAnswer> }) {
  return (
    <>
      <Button
        look="accent"
        large
        disabled={answer.isPending}
        onClick={() => answer.mutate({ gate, say: "done" })}
      >
        {gate.answer}
      </Button>
      {gate.leave_out && (
        <Button
          large
          className="max-w-full truncate"
          disabled={answer.isPending}
          onClick={() => answer.mutate({ gate, say: "leave out" })}
        >
          {gate.leave_out}
        </Button>
      )}
    </>
  );
}

/** What a hand has to do, and the answer when it is done. */
export function GateCard({ gate, job }: { gate: Gate; job: Schemas["JobOut"] }) {
  const answer = useAnswer();
  return (
    <section className="border-l-4 border-accent bg-card px-4 py-3" aria-live="polite">
      <div className="flex items-start gap-4">
        <span className="text-accent">
          <GateSign gate={gate.sign} flat />
        </span>
        <div>
          <h2 className="text-xl font-semibold text-accent">{gate.title}</h2>
          <p className="py-1">{gate.advice}</p>
        </div>
      </div>
      <div className="flex flex-wrap gap-2 pt-2">
        <GateButtons gate={gate} answer={answer} />
        <StopButton job={job} />
      </div>
      {answer.error ? <Trouble error={answer.error} /> : null}
    </section>
  );
}
