import { useState, type CSSProperties, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";

import { api, get, type Schemas } from "../../api/client";
import { useChange, useSlip } from "../../api/hooks";
import { Button, Key, Trouble, Waiting } from "../../parts/basics";
import { putOnSheet, useHere } from "../../parts/context";
import { FilterStamp } from "../../parts/FilterStamp";
import { Ruler } from "../../parts/Ruler";
import { useRoomInside } from "../../parts/roomInside";
import { SmallSpine } from "../../parts/Spine";
import { TakeBack } from "../../parts/TakeBack";
import { DoesItCorrect } from "./Correction";

type Line = Schemas["SlipLineOut"];
type Candidate = Schemas["CandidateOut"];

/** Pixels that a letter takes: of the values beside rulers, and of what stands above them. */
const LETTER = 7.3;
const TITLE_LETTER = 4.8;
/** Between columns, and between a ruler and its value. */
const GAP = 8;
const title = (kind: string) => kind.charAt(0).toUpperCase() + kind.slice(1);

function columnTitle(column: string, candidates: (Candidate | null)[], gainWord: string): string {
  const name = column === "gain" ? gainWord : column;
  for (const candidate of candidates) {
    const ruler = candidate?.rulers.find((r) => r.quantity === column);
    if (ruler && ruler.tolerance !== null && ruler.kind === "band") {
      if (ruler.note.startsWith("±")) return `${name}, ${ruler.note}`;
      return `${name}, ±${ruler.tolerance}${ruler.unit === "°" ? "°" : ` ${ruler.unit}`}`;
    }
  }
  return name;
}

/** Whether the value is written beside a ruler: not where a tick on the line says it all, or nothing is known. */
const isTold = (ruler: Candidate["rulers"][number], column: Column) =>
  ruler.kind === "exact"
    ? ruler.from_name || ruler.by_hand || (!ruler.inside && !ruler.unknown)
    : column.known;

/** A ruler's value as it stands beside it: steps are counted, and the title says so. */
const told = (ruler: Candidate["rulers"][number]) =>
  ruler.unit === "steps" ? ruler.text.replace(/\s*steps/, "") : ruler.text;

const rulerWidth = (ruler: Candidate["rulers"][number]) => (ruler.unknown ? 30 : 50);

/** A column is as wide as what stands in it: a title, a ruler, and its value where that is told. */
function columnWidth(column: Column, candidates: (Candidate | null)[]): number {
  const { name, title } = column;
  const rulers = candidates.flatMap((c) => c?.rulers.filter((r) => r.quantity === name) ?? []);
  const widths = rulers.map((r) => {
    const marks = Number(r.from_name) + Number(r.by_hand);
    const value = isTold(r, column) ? GAP + LETTER * (told(r).length + marks) : 0;
    return (r.kind === "exact" ? 32 : rulerWidth(r)) + value + GAP;
  });
  return Math.max(TITLE_LETTER * title.length + GAP, ...widths);
}

/** A column of rulers. */
interface Column {
  name: string;
  /** What stands above it; above each of its rulers where rows are stacked. */
  title: string;
  /** Whether any of its values is known: of none the reasons below say so. */
  known: boolean;
}

function Rulers({ candidate, columns }: { candidate: Candidate; columns: Column[] }) {
  return (
    <>
      {columns.map((column) => {
        const { name, title } = column;
        const ruler = candidate.rulers.find((r) => r.quantity === name);
        return (
          <td
            key={name}
            className={`pr-1 align-middle ${!ruler ? "stacked:hidden" : ruler.kind === "exact" && !isTold(ruler, column) ? "stacked:col-span-2" : "stacked:col-span-3"}`}
          >
            {ruler && (
              <>
                <span className="narrow block text-s text-ink2 not-stacked:hidden">{title}</span>
                <Ruler
                  ruler={{ ...ruler, text: told(ruler) }}
                  width={rulerWidth(ruler)}
                  text={isTold(ruler, column)}
                />
              </>
            )}
          </td>
        );
      })}
    </>
  );
}

/** A row of the table; where the page is too narrow for it its rulers stand below its title, some side by side. */
const ROW =
  "stacked:grid stacked:grid-cols-6 stacked:md:grid-cols-12 stacked:gap-x-2 stacked:gap-y-1 stacked:py-2";
const WHOLE = "stacked:col-span-full";

/** Choose another candidate for a line, or leave it to the shelf again. */
const useChoice = (set: number) =>
  useChange((body: Schemas["ChoiceIn"]) =>
    get(api.PUT("/api/lights/{set_id}/choice", { params: { path: { set_id: set } }, body })),
  );

/** The candidates of a line that are in sight. */
const inSight = (line: Line, open: boolean) => line.runners_up.slice(0, open ? undefined : 1);

/** What a person agrees to who lets a longer dark be scaled, before it is done. */
function AskToScale({
  scale,
  pending,
  onScale,
  onLeave,
}: {
  scale: Schemas["ScaleOut"];
  pending: boolean;
  onScale: () => void;
  onLeave: () => void;
}) {
  return (
    <div className="my-1.5 flex flex-wrap items-center gap-x-3 gap-y-1.5 border-l-4 border-ink bg-paper px-3 py-1.5 text-ink">
      <p className="min-w-60 flex-1">{scale.told.join(" ")}</p>
      <Button disabled={pending} onClick={onScale}>
        {pending ? "Looking at its glow" : title(scale.action)}
      </Button>
      <Button disabled={pending} onClick={onLeave}>
        Leave it
      </Button>
    </div>
  );
}

/** A candidate that was not chosen: what it lost on, and how it can be used all the same. */
function NextBest({
  candidate,
  columns,
  kind,
  choose,
  first,
}: {
  candidate: Candidate;
  columns: Column[];
  kind: Schemas["ChoiceIn"]["kind"];
  choose: ReturnType<typeof useChoice>;
  /** What stands before the first of them. */
  first: ReactNode;
}) {
  const [asking, setAsking] = useState(false);
  const { holding_id, scale } = candidate;
  const way = "shrink-0 underline underline-offset-2 hover:no-underline max-md:h-11 max-md:px-2";
  return (
    <>
      <tr className={`text-s stacked:border-t stacked:border-dashed stacked:border-line ${ROW}`}>
        <td className={`align-middle text-ink2 ${first ? WHOLE : "stacked:hidden"}`}>{first}</td>
        <td className={`pt-1 pr-3 align-middle ${WHOLE}`} title={`${candidate.title}, ${candidate.detail}`}>
          <span className="flex items-baseline justify-between gap-2 leading-4">
            <span>{candidate.title}</span>
            <button
              type="button"
              className={way}
              aria-label={`Use ${candidate.title} of ${candidate.detail}`}
              disabled={choose.isPending}
              onClick={() => choose.mutate({ kind, holding_id, scaled: false })}
            >
              use it
            </button>
          </span>
          <span className="flex items-baseline justify-between gap-2 leading-4 text-ink2">
            <span className="truncate">{candidate.detail}</span>
            {scale && (
              <button
                type="button"
                className={`${way} text-ink`}
                aria-expanded={asking}
                onClick={() => setAsking(!asking)}
              >
                {scale.action} …
              </button>
            )}
          </span>
        </td>
        <Rulers candidate={candidate} columns={columns} />
      </tr>
      <tr className="text-s text-ink2 stacked:block">
        <td className="stacked:hidden" />
        <td colSpan={columns.length + 1} className="pb-1.5 leading-4 stacked:block">
          lost: {candidate.lost_on}
          {scale && asking && (
            <AskToScale
              scale={scale}
              pending={choose.isPending}
              onScale={() => choose.mutate({ kind, holding_id, scaled: true })}
              onLeave={() => setAsking(false)}
            />
          )}
        </td>
      </tr>
    </>
  );
}

function Lines({
  line,
  columns,
  set,
  open,
  onOpen,
}: {
  line: Line;
  columns: Column[];
  set: number;
  open: boolean;
  onOpen: (open: boolean) => void;
}) {
  const choose = useChoice(set);
  const chosen = line.chosen;
  const kind = line.kind as Schemas["ChoiceIn"]["kind"];
  const missing = line.verdict === "nothing fits" && !line.waits;
  return (
    <>
      <tr className={`border-t border-line ${ROW}`}>
        <th
          scope="row"
          className={`py-1.5 text-left align-middle stacked:flex stacked:items-baseline stacked:gap-3 stacked:py-0 ${WHOLE}`}
        >
          <span className="block text-l font-semibold">{title(line.kind)}</span>
          <span className={`block text-s font-normal ${missing ? "font-semibold text-accent" : "text-ink2"}`}>
            {line.waits ? "waits for the flat" : line.verdict}
          </span>
        </th>
        {chosen ? (
          <>
            <td className={`pr-3 align-middle ${WHOLE}`}>
              <Link
                to={`/shelf?pull=${chosen.holding_id}${line.kind === "flat" ? "&wall=flats" : ""}`}
                className="flex items-center max-md:min-h-11 gap-2.5 hover:underline"
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
              {line.by_hand && (
                <button
                  type="button"
                  className="pl-[23px] text-s underline underline-offset-2 hover:no-underline max-md:min-h-11"
                  disabled={choose.isPending}
                  onClick={() => choose.mutate({ kind, holding_id: null, scaled: false })}
                >
                  let the shelf choose
                </button>
              )}
            </td>
            <Rulers candidate={chosen} columns={columns} />
          </>
        ) : (
          <td colSpan={columns.length + 1} className={`align-middle text-ink2 ${WHOLE}`}>
            {missing && (
              <span className="flex items-center gap-2.5 text-ink">
                <SmallSpine gap step={0} />
                {line.runners_up.length
                  ? `Nothing on the shelf fits; the nearest are below.${line.note && ` ${title(line.note)}.`}`
                  : line.note
                    ? `The shelf has none that could fit; ${line.note}.`
                    : "None is on the shelf."}
              </span>
            )}
            {!missing && !line.waits && (
              <span className="text-ink">{line.note.charAt(0).toUpperCase() + line.note.slice(1)}.</span>
            )}
          </td>
        )}
      </tr>
      {chosen && line.verdict === "fits with care" && chosen.reasons.length > 0 && (
        <tr className="text-s stacked:block">
          <td className="stacked:hidden" />
          <td colSpan={columns.length + 1} className="pb-1 pl-[21px] stacked:block stacked:pl-0">
            {chosen.reasons.join("; ")}.
          </td>
        </tr>
      )}
      {inSight(line, open).map((candidate, index) => (
        <NextBest
          key={candidate.holding_id}
          candidate={candidate}
          columns={columns}
          choose={choose}
          kind={kind}
          first={
            index === 0 && (
              <button
                type="button"
                aria-expanded={open}
                disabled={line.runners_up.length < 2}
                onClick={() => onOpen(!open)}
                className="h-6 hover:text-ink max-md:h-11"
              >
                {line.runners_up.length > 1 ? (open ? "▾" : "▸") : ""} next best
                {line.runners_up.length > 1 && !open && ` of ${line.runners_up.length}`}
              </button>
            )
          }
        />
      ))}
      {choose.error && (
        <tr className="stacked:block">
          <td className="stacked:hidden" />
          <td colSpan={columns.length + 1} className="stacked:block">
            <Trouble error={choose.error} />
          </td>
        </tr>
      )}
    </>
  );
}

const useSay = (rig: number) =>
  useChange((body: Schemas["PartIn"]) =>
    get(api.PUT("/api/rigs/{rig_id}/says", { params: { path: { rig_id: rig } }, body })),
  );

/** What no header tells, asked once; the answer is kept for the rig. */
function Asked({ question, rig }: { question: Schemas["QuestionOut"]; rig: number }) {
  const say = useSay(rig);
  const quantity = question.quantity as Schemas["PartIn"]["quantity"];
  return (
    <div className="my-1.5 flex flex-wrap items-center gap-x-3 gap-y-1.5 border-l-4 border-ink bg-paper px-3 py-1.5">
      <p className="flex-1">{question.text}</p>
      {(["fixed", "moves"] as const).map((says) => (
        <Button key={says} disabled={say.isPending} onClick={() => say.mutate({ quantity, says })}>
          {question[says]}
        </Button>
      ))}
      {say.error ? <Trouble error={say.error} /> : null}
    </div>
  );
}

/** What was said of the rig, each with a way back. */
function Said({ said, rig }: { said: Schemas["PartSaid"][]; rig: number }) {
  const say = useSay(rig);
  return (
    <p className="pt-0.5 text-s text-ink2">
      You said:{" "}
      {said.map((part) => (
        <span key={part.quantity} className="pr-3">
          {part.text}{" "}
          <TakeBack
            what={part.text}
            onClick={() =>
              say.mutate({ quantity: part.quantity as Schemas["PartIn"]["quantity"], says: null })
            }
          />
        </span>
      ))}
    </p>
  );
}

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
                <th />
                <th />
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
