import { useCallback, useEffect, useRef, useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, ColumnHead, Trouble } from "../../parts/basics";
import { noNumber, numberOf } from "../../parts/typedNumber";

type Night = Schemas["NightOut"];

/** So long after the last letter what was typed is kept, in ms. */
const KEPT_AFTER = 700;

const of = (rig: number, night: string) => ({ params: { path: { rig_id: rig, night } } });

/** Notes of a night: kept as they are typed. */
export function Notes({ night, rig }: { night: Night; rig: number }) {
  const [typed, setTyped] = useState<string | null>(null);
  const text = typed ?? night.notes;
  const keep = useChange((notes: string) =>
    get(
      api.PUT("/api/rigs/{rig_id}/nights/{night}/log", {
        ...of(rig, night.night),
        body: { notes, weather: null },
      }),
    ),
  );
  const waiting = useRef<{ timer: ReturnType<typeof setTimeout>; text: string } | null>(null);
  const { mutate } = keep;
  const flush = useCallback(() => {
    if (!waiting.current) return;
    clearTimeout(waiting.current.timer);
    mutate(waiting.current.text);
    waiting.current = null;
  }, [mutate]);
  // Whoever leaves the night in the middle of a word has it kept all the same.
  useEffect(() => flush, [flush]);
  const said = keep.error ? "not kept" : keep.isPending || text !== night.notes ? "keeping…" : "kept";
  return (
    <div className="flex flex-1 flex-col">
      <textarea
        aria-label="Notes of this night"
        placeholder="Notes of this night"
        value={text}
        maxLength={4000}
        rows={2}
        onChange={(event) => {
          const next = event.target.value;
          setTyped(next);
          if (waiting.current) clearTimeout(waiting.current.timer);
          waiting.current = { text: next, timer: setTimeout(flush, KEPT_AFTER) };
        }}
        onBlur={flush}
        className="field-sizing-content min-h-12 w-full resize-none rounded-sm border border-transparent bg-transparent px-2 py-1 hover:border-line focus:border-rule focus:bg-card"
      />
      <span role="status" className="px-2 text-s text-ink2">
        {typed === null ? "" : said}
      </span>
      {keep.error ? <Trouble error={keep.error} onRetry={() => mutate(text)} /> : null}
    </div>
  );
}

/** One quantity of the weather, kept when it is left. */
function Quantity({ one, onKeep }: { one: Schemas["WeatherOut"]; onKeep: (value: number | null) => void }) {
  const [text, setText] = useState<string | null>(null);
  const shown = text ?? (one.value === null ? "" : String(one.value).replace("-", "−"));
  return (
    <label className="flex items-center justify-between gap-2 border-b border-line py-1">
      <span className="text-ink2">{one.says}</span>
      <span className="flex items-center gap-1.5">
        <input
          aria-label={`${one.says}, ${one.unit}`}
          inputMode="decimal"
          value={shown}
          onChange={(event) => setText(event.target.value)}
          onKeyDown={(event) => {
            if (event.key === "Enter") event.currentTarget.blur();
          }}
          onBlur={() => {
            if (text === null) return;
            if (!noNumber(text)) onKeep(text.trim() ? numberOf(text) : null);
            setText(null);
          }}
          className="num h-7 w-16 rounded-sm border border-line bg-card px-1.5 text-right max-md:h-11"
        />
        <span className="w-10 text-s text-ink2">{one.unit}</span>
      </span>
    </label>
  );
}

/** The weather of a night, by hand. */
export function Weather({ night, rig }: { night: Night; rig: number }) {
  const keep = useChange((weather: Record<string, number | null>) =>
    get(
      api.PUT("/api/rigs/{rig_id}/nights/{night}/log", {
        ...of(rig, night.night),
        body: { notes: null, weather },
      }),
    ),
  );
  return (
    <section>
      <ColumnHead>Weather</ColumnHead>
      {night.weather.map((one) => (
        <Quantity key={one.name} one={one} onKeep={(value) => keep.mutate({ [one.name]: value })} />
      ))}
      {keep.error ? <Trouble error={keep.error} /> : null}
    </section>
  );
}

/** What was shot in the night beside its lights, and what failed. */
export function WhatWasShot({ night }: { night: Night }) {
  return (
    <section>
      <ColumnHead>What the rig shot</ColumnHead>
      <ul>
        {night.shot.map((line, index) => (
          <li key={index} className="grid grid-cols-[48px_1fr] gap-2 border-b border-line py-1">
            <span className="num text-s text-ink2">{line.clock}</span>
            <span>
              {line.what}{" "}
              <span className={`text-s ${line.failed ? "font-semibold text-accent" : "text-ink2"}`}>
                {line.how}
              </span>
            </span>
          </li>
        ))}
        {night.shot.length === 0 && (
          <li className="py-1.5 text-ink2">No flats, darks or bias of a run of Gray Shelf’s.</li>
        )}
      </ul>
    </section>
  );
}

const nextDay = (night: string, by: number) => {
  const day = new Date(`${night}T12:00:00Z`);
  day.setUTCDate(day.getUTCDate() + by);
  return day.toISOString().slice(0, 10);
};

/** Parts a night in two, or joins it to another; the newest of it can be taken back. */
export function PartOrJoin({
  night,
  rig,
  moved,
  onGone,
}: {
  night: Night;
  rig: number;
  moved: boolean;
  /** The night is not there any more, but the one that it went into, if any. */
  onGone: (into?: string) => void;
}) {
  const [at, setAt] = useState("");
  const [into, setInto] = useState(nextDay(night.night, 1));
  const move = useChange(
    () =>
      get(
        api.POST("/api/rigs/{rig_id}/nights/{night}/move", {
          ...of(rig, night.night),
          body: { into, at: at.trim() || null },
        }),
      ),
    () => {
      if (!at.trim()) onGone(into);
    },
  );
  const back = useChange(() =>
    get(api.POST("/api/rigs/{rig_id}/nights/move/take-back", { params: { path: { rig_id: rig } } })),
  );
  const out = useChange(
    () => get(api.DELETE("/api/rigs/{rig_id}/nights/{night}", of(rig, night.night))),
    () => onGone(),
  );
  const said = move.data?.message ?? back.data?.message;
  return (
    <section>
      <ColumnHead>Another night</ColumnHead>
      {night.taken > 0 ? (
        <form
          className="flex flex-wrap items-center gap-2 py-2"
          onSubmit={(event) => {
            event.preventDefault();
            move.mutate(undefined);
          }}
        >
          what was begun from
          <input
            aria-label="From which time on; empty for the whole night"
            placeholder="the start"
            value={at}
            onChange={(event) => setAt(event.target.value)}
            className="num h-8 w-24 rounded-sm border border-rule bg-card px-2 max-md:h-11"
          />
          on belongs to
          <input
            type="date"
            aria-label="The night that it belongs to"
            value={into}
            onChange={(event) => setInto(event.target.value)}
            className="num h-8 rounded-sm border border-rule bg-card px-2 max-md:h-11"
          />
          <Button type="submit" disabled={move.isPending || !into}>
            {at.trim() ? "Part it" : "Join it"}
          </Button>
        </form>
      ) : (
        <p className="py-2">
          <Button disabled={out.isPending} onClick={() => out.mutate(undefined)}>
            Take this night out of the log
          </Button>
        </p>
      )}
      {moved && (
        <Button look="link" disabled={back.isPending} onClick={() => back.mutate(undefined)}>
          Take the last parting or joining back
        </Button>
      )}
      {said && (
        <p role="status" className="text-s text-ink2">
          {said}
        </p>
      )}
      {[move.error, back.error, out.error].map((error, i) =>
        error ? <Trouble key={i} error={error} /> : null,
      )}
      <p className="pt-1 text-s text-ink2">Frames are told anew; no file is touched.</p>
    </section>
  );
}
