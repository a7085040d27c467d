import type { ReactNode } from "react";

import { CopyNumber } from "./CopyNumber";

interface Asked {
  line: string;
  detail: string;
  why?: string;
  folder: string;
  refused: { name: string; why: string }[];
  /** Each number to set, as it is copied. */
  dials?: { name: string; copied: string }[];
}

/** What another program is to shoot next, in one line that is read from afar; what came in and was not it; the ways on. */
export function AskedNext({ asked, children }: { asked: Asked; children: ReactNode }) {
  return (
    <section className="border-l-4 border-accent bg-card px-4 py-3" aria-live="polite">
      <h2 className="text-xxl leading-tight font-semibold text-accent" style={{ fontStretch: "88%" }}>
        {asked.line}
      </h2>
      <p className="pt-1 text-l">{asked.detail}</p>
      {asked.dials && (
        <p className="flex flex-wrap gap-2 pt-2">
          {asked.dials.map((dial) => (
            <CopyNumber
              key={dial.name}
              name={dial.name}
              copied={dial.copied}
              text={`${dial.name} ${dial.copied}`}
            />
          ))}
        </p>
      )}
      {asked.refused.map((item) => (
        <p key={item.name} className="mt-2 border-l-4 border-rule pl-3" role="alert">
          <b className="num font-semibold break-all">{item.name}</b> {item.why}
        </p>
      ))}
      <p className="pt-2 text-s text-ink2">
        {asked.why && <span className="block">Why: {asked.why}.</span>}
        Watching <span className="num break-all">{asked.folder}</span>
      </p>
      <div className="flex flex-wrap gap-2 pt-2">{children}</div>
    </section>
  );
}
