import { useState } from "react";
import { Link, useNavigate } from "react-router";

import type { Schemas } from "../../api/client";
import { useSlip } from "../../api/hooks";
import { Button, Key, Trouble, Waiting } from "../../parts/basics";
import { putOnSheet, useHere } from "../../parts/context";
import { FilterStamp } from "../../parts/FilterStamp";
import { Ruler } from "../../parts/Ruler";
import { SmallSpine } from "../../parts/Spine";

type Line = Schemas["SlipLineOut"];
type Candidate = Schemas["CandidateOut"];

const EXACT = ["gain", "offset", "binning"];
const WIDTHS: Record<string, number> = {
  gain: 40,
  offset: 42,
  binning: 50,
  temperature: 112,
  exposure: 106,
  angle: 116,
  focus: 104,
  age: 130,
};
const title = (kind: string) => kind.charAt(0).toUpperCase() + kind.slice(1);

function columnTitle(name: string, candidates: (Candidate | null)[]): string {
  for (const candidate of candidates) {
    const ruler = candidate?.rulers.find((r) => r.quantity === name);
    if (ruler && ruler.tolerance !== null && ruler.kind === "band") {
      if (ruler.note.startsWith("±")) return `${name}, ${ruler.note}`;
      return `${name}, ±${ruler.tolerance}${ruler.unit === "°" ? "°" : ` ${ruler.unit}`}`;
    }
  }
  return name;
}

function Rulers({ candidate, columns }: { candidate: Candidate; columns: string[] }) {
  return (
    <>
      {columns.map((name) => {
        const ruler = candidate.rulers.find((r) => r.quantity === name);
        return (
          <td key={name} className="pr-1 align-middle">
            {ruler && (
              <Ruler
                ruler={
                  ruler.unit === "steps" ? { ...ruler, text: ruler.text.replace(/\s*steps/, "") } : ruler
                }
                width={50}
                text={!EXACT.includes(name) || !ruler.inside}
              />
            )}
          </td>
        );
      })}
    </>
  );
}

function Lines({ line, columns }: { line: Line; columns: string[] }) {
  const [open, setOpen] = useState(false);
  const chosen = line.chosen;
  const missing = line.verdict === "nothing fits" && !line.waits;
  return (
    <>
      <tr className="border-t border-line">
        <th scope="row" className="py-1.5 text-left align-middle">
          <span className="block text-l font-semibold">{title(line.kind)}</span>
          <span className={`block text-s font-normal ${missing ? "font-semibold text-accent" : "text-ink2"}`}>
            {line.waits ? "waits for the flat" : line.verdict}
          </span>
        </th>
        {chosen ? (
          <>
            <td className="pr-3 align-middle">
              <Link
                to={`/shelf?pull=${chosen.holding_id}${line.kind === "flat" ? "&wall=flats" : ""}`}
                className="flex items-center gap-2.5 hover:underline"
              >
                <SmallSpine step={chosen.age_step} care={chosen.care} />
                <span className="min-w-0">
                  <span className="block leading-4 font-semibold">{chosen.title}</span>
                  <span className="block text-s text-ink2">
                    {chosen.detail}
                    {line.note && `; ${line.note}`}
                  </span>
                </span>
              </Link>
            </td>
            <Rulers candidate={chosen} columns={columns} />
          </>
        ) : (
          <td colSpan={columns.length + 1} className="align-middle text-ink2">
            {!line.waits && (
              <span className="flex items-center gap-2.5 text-ink">
                <SmallSpine gap step={0} />
                {line.runners_up.length
                  ? "Nothing on the shelf fits; the nearest are below."
                  : "None is on the shelf."}
              </span>
            )}
          </td>
        )}
      </tr>
      {line.runners_up.slice(0, open ? undefined : 1).map((candidate, index) => (
        <tr key={candidate.holding_id} className="text-s">
          <td className="align-middle text-ink2">
            {index === 0 && (
              <button
                type="button"
                aria-expanded={open}
                disabled={line.runners_up.length < 2}
                onClick={() => setOpen(!open)}
                className="h-6 hover:text-ink"
              >
                {line.runners_up.length > 1 ? (open ? "▾" : "▸") : ""} next best
                {line.runners_up.length > 1 && !open && ` of ${line.runners_up.length}`}
              </button>
            )}
          </td>
          <td
            className="py-1 pr-3 align-middle"
            title={`${candidate.title}, ${candidate.detail}; lost: ${candidate.lost_on}`}
          >
            <span className="block truncate leading-4">{candidate.title}</span>
            <span className="block truncate leading-4 text-ink2">lost on {candidate.lost_on}</span>
          </td>
          <Rulers candidate={candidate} columns={columns} />
        </tr>
      ))}
    </>
  );
}

/** The pull slip of a set of lights. */
export function Slip({ id, onClose }: { id: number; onClose: () => void }) {
  const slip = useSlip(id);
  const { setWishes } = useHere();
  const navigate = useNavigate();
  if (slip.error && !slip.data) return <Trouble error={slip.error} onRetry={() => void slip.refetch()} />;
  if (!slip.data) return <Waiting what="Writing the slip" />;
  const data = slip.data;
  const columns = data.columns.map((c) => c.name);
  const all = data.lines.flatMap((l) => [l.chosen, ...l.runners_up]);
  const notch = "absolute top-[30px] h-4 w-4 rounded-full border border-rule bg-paper";
  return (
    <section aria-label={`Pull slip: ${data.target}`} className="relative border border-rule bg-card">
      <span aria-hidden className="pointer-events-none absolute inset-0 overflow-hidden">
        <span className={`${notch} -left-[9px]`} />
        <span className={`${notch} -right-[9px]`} />
      </span>
      <header className="flex h-[38px] items-center gap-3 border-b border-dashed border-rule px-4">
        {data.filter_code && <FilterStamp code={data.filter_code} nm={data.passband_nm} />}
        <span className="font-semibold">{data.target}</span>
        <span className="num text-s">{data.title}</span>
        <span className="pl-6">
          <b className="font-semibold">Pull slip</b>,{" "}
          <span className={data.verdict === "nothing fits" ? "font-semibold text-accent" : ""}>
            {data.verdict}
          </span>
        </span>
        <span className="ml-auto flex items-center gap-3 text-s">
          <a className="underline" href={`/api/lights/${id}/slip.csv`}>
            CSV
          </a>
          <a className="underline" href={`/api/lights/${id}/slip.json`}>
            JSON
          </a>
          <button type="button" onClick={onClose} aria-label="Put the slip back" className="h-6">
            <Key>Esc</Key>
          </button>
        </span>
      </header>
      <div className="overflow-x-auto px-4 pt-1">
        {data.warnings.map((warning) => (
          <p key={warning} className="py-2">
            {warning}
          </p>
        ))}
        {data.lines.length > 0 && (
          <table className="w-full min-w-[900px] table-fixed border-collapse">
            <colgroup>
              <col style={{ width: 92 }} />
              <col />
              {columns.map((name) => (
                <col key={name} style={{ width: WIDTHS[name] ?? 100 }} />
              ))}
            </colgroup>
            <thead>
              <tr className="narrow text-s text-ink2">
                <th />
                <th />
                {columns.map((name) => (
                  <th key={name} scope="col" className="py-1 pr-3 text-left font-normal whitespace-nowrap">
                    {columnTitle(name, all)}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {data.lines.map((line) => (
                <Lines key={line.kind} line={line} columns={columns} />
              ))}
            </tbody>
          </table>
        )}
      </div>
      <footer className="flex min-h-12 items-center justify-between gap-4 border-t border-ink px-4 py-2">
        <p>{data.advice}</p>
        {data.offer !== null && data.verdict !== "fits" && (
          <Button
            look={data.verdict === "nothing fits" ? "accent" : "plain"}
            onClick={() => {
              setWishes((w) => putOnSheet(w, data.offer ?? "", true));
              void navigate("/tonight");
            }}
          >
            Shoot it tonight
          </Button>
        )}
      </footer>
    </section>
  );
}
