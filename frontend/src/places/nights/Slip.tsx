import { useState, type CSSProperties } from "react";
import { useNavigate } from "react-router";

import { useSlip } from "../../api/hooks";
import { Button, Key, Trouble, Waiting } from "../../parts/basics";
import { putOnSheet, useHere } from "../../parts/context";
import { FilterStamp } from "../../parts/FilterStamp";
import { useRoomInside } from "../../parts/roomInside";
import { DoesItCorrect } from "./Correction";
import { type Candidate, columnTitle, columnWidth } from "./RulerColumns";
import { Asked, Said } from "./SlipAsks";
import { inSight, Lines } from "./SlipLines";

/** What the signs behind values stand for, where there are any. */
function Marks({ candidates }: { candidates: (Candidate | null)[] }) {
  const rulers = candidates.flatMap((c) => c?.rulers ?? []);
  const signs = [
    rulers.some((r) => r.from_name) && "* only from a file’s name",
    rulers.some((r) => r.by_hand) && "† said by hand",
  ].filter(Boolean);
  return signs.length > 0 && <p className="py-1 text-s text-ink2">{signs.join("; ")}</p>;
}

/** The pull slip of a set of lights. */
export function Slip({ id, onClose }: { id: number; onClose: () => void }) {
  const slip = useSlip(id);
  const { setWishes } = useHere();
  const navigate = useNavigate();
  const [correcting, setCorrecting] = useState(false);
  const [opened, setOpened] = useState<string[]>([]);
  const [box, room] = useRoomInside();
  if (slip.error && !slip.data) return <Trouble error={slip.error} onRetry={() => void slip.refetch()} />;
  if (!slip.data) return <Waiting what="Writing the slip" />;
  const data = slip.data;
  const all = data.lines.flatMap((l) => [l.chosen, ...inSight(l, opened.includes(l.kind))]);
  const every = data.lines.flatMap((l) => [l.chosen, ...l.runners_up]);
  const columns = data.columns.map(({ name }) => ({
    name,
    title: columnTitle(name, every, data.gain_word),
    known: every.some((c) => c?.rulers.some((r) => r.quantity === name && !r.unknown)),
  }));
  const widest = 88 + 190 + columns.reduce((sum, column) => sum + columnWidth(column, all), 0);
  const notch = "absolute top-[30px] h-4 w-4 rounded-full border border-rule bg-paper";
  return (
    <section aria-label={`Pull slip: ${data.target}`} className="relative border border-rule bg-card">
      <span aria-hidden className="pointer-events-none absolute inset-0 overflow-hidden">
        <span className={`${notch} -left-[9px]`} />
        <span className={`${notch} -right-[9px]`} />
      </span>
      <header className="flex min-h-[38px] flex-wrap items-center gap-x-3 border-b border-dashed border-rule px-4 max-md:gap-y-1 max-md:py-2">
        {data.filter_code && <FilterStamp code={data.filter_code} nm={data.passband_nm} />}
        <span className="font-semibold">{data.target}</span>
        <span className="num text-s">{data.title}</span>
        <span className="md:pl-6">
          <b className="font-semibold">Pull slip</b>,{" "}
          <span className={data.verdict === "nothing fits" ? "font-semibold text-accent" : ""}>
            {data.verdict}
          </span>
        </span>
        <span className="ml-auto flex items-center gap-3 text-s max-md:ml-0 max-md:w-full max-md:gap-5">
          {data.lines.some((l) => l.kind === "flat" && l.chosen) && (
            <button type="button" className="underline max-md:h-11" onClick={() => setCorrecting(true)}>
              Does it correct?
            </button>
          )}
          <a
            className="underline max-md:flex max-md:h-11 max-md:items-center"
            href={`/api/lights/${id}/slip.csv`}
          >
            CSV
          </a>
          <a
            className="underline max-md:flex max-md:h-11 max-md:items-center"
            href={`/api/lights/${id}/slip.json`}
          >
            JSON
          </a>
          <button
            type="button"
            onClick={onClose}
            aria-label="Put the slip back"
            className="h-6 max-md:ml-auto max-md:h-11 max-md:px-2"
          >
            <span className="max-md:hidden">
              <Key>Esc</Key>
            </span>
            <span className="underline md:hidden">Close</span>
          </button>
        </span>
      </header>
      <div ref={box} data-stacked={room < widest || undefined} className="overflow-x-auto px-4 pt-1">
        {data.warnings.map((warning) => (
          <p key={warning} className="py-2">
            {warning}
          </p>
        ))}
        {data.questions.map((question) => (
          <Asked key={question.quantity} question={question} rig={data.rig_id} />
        ))}
        {data.lines.length > 0 && (
          <table
            className="w-full table-fixed border-collapse stacked:block not-stacked:min-w-(--widest)"
            style={{ "--widest": `${widest}px` } as CSSProperties}
          >
            <colgroup className="stacked:hidden">
              <col style={{ width: 88 }} />
              <col />
              {columns.map((column) => (
                <col key={column.name} style={{ width: columnWidth(column, all) }} />
              ))}
            </colgroup>
            <thead className="stacked:hidden">
              <tr className="narrow text-s text-ink2">
                <th>
                  <span className="sr-only">Kind</span>
                </th>
                <th>
                  <span className="sr-only">What was chosen</span>
                </th>
                {columns.map(({ name, title }) => (
                  <th key={name} scope="col" className="py-1 pr-3 text-left font-normal whitespace-nowrap">
                    {title}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody className="stacked:block">
              {data.lines.map((line) => (
                <Lines
                  key={line.kind}
                  line={line}
                  columns={columns}
                  set={id}
                  open={opened.includes(line.kind)}
                  onOpen={(open) =>
                    setOpened((old) => (open ? [...old, line.kind] : old.filter((k) => k !== line.kind)))
                  }
                />
              ))}
            </tbody>
          </table>
        )}
        <Marks candidates={all} />
      </div>
      <footer className="flex min-h-12 items-center justify-between gap-4 border-t border-ink px-4 py-2">
        <div>
          <p>{data.advice}</p>
          {data.said.length > 0 && <Said said={data.said} rig={data.rig_id} />}
        </div>
        {data.offers.length > 0 && data.verdict !== "fits" && (
          <Button
            look={data.verdict === "nothing fits" && !data.against ? "accent" : "plain"}
            onClick={() => {
              setWishes((w) => data.offers.reduce((all, key) => putOnSheet(all, key, true), w));
              void navigate("/tonight");
            }}
          >
            Shoot {data.offers.length > 1 ? "them" : "it"} tonight
          </Button>
        )}
      </footer>
      {correcting && <DoesItCorrect set={id} onClose={() => setCorrecting(false)} />}
    </section>
  );
}
