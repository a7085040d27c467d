import { useState, type ReactNode } from "react";
import { Link } from "react-router";

import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, Trouble } from "../../parts/basics";
import { SmallSpine } from "../../parts/Spine";
import { type Candidate, type Column, Rulers } from "./RulerColumns";

type Line = Schemas["SlipLineOut"];

const title = (kind: string) => kind.charAt(0).toUpperCase() + kind.slice(1);

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
export const inSight = (line: Line, open: boolean) => line.runners_up.slice(0, open ? undefined : 1);

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

export function Lines({
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
