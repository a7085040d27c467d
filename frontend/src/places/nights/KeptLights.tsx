import { useState } from "react";

import { api, asked, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, ColumnHead, Trouble } from "../../parts/basics";
import { FilterStamp } from "../../parts/FilterStamp";

type Sent = Schemas["KeptIn"];

const ONE: Sent = { names: null, frames: null, kept: true, others: false, every_night: false };

/** The lights of a night, each to be kept or not. */
function FrameList({
  frames,
  busy,
  onKeep,
}: {
  frames: Schemas["NightFrameOut"][];
  busy: boolean;
  onKeep: (id: number, kept: boolean) => void;
}) {
  return (
    <ul className="grid max-h-72 grid-cols-2 content-start gap-x-6 overflow-y-auto max-lg:grid-cols-1">
      {frames.map((frame) => (
        <li key={frame.id} className="min-w-0 border-b border-line py-0.5">
          <label
            className="flex items-center gap-2"
            title={frame.why || `${frame.target}, ${frame.exposure}`}
          >
            <input
              type="checkbox"
              className="h-4 w-4 shrink-0 accent-[var(--ink)]"
              checked={frame.kept}
              disabled={frame.in_rejects || busy}
              onChange={(event) => onKeep(frame.id, event.target.checked)}
            />
            <FilterStamp code={frame.stamp} nm={frame.passband_nm} />
            <span className="num text-s text-ink2">{frame.clock}</span>
            <span className={`truncate text-s ${frame.kept ? "" : "text-ink2 line-through"}`}>
              {frame.name}
            </span>
            {frame.in_rejects && <span className="text-s text-ink2">rejects</span>}
          </label>
        </li>
      ))}
    </ul>
  );
}

/** Which lights of a night are kept: each by hand, or all by a list of names. */
export function KeptLights({ rig, night }: { rig: number; night: string }) {
  const path = { params: { path: { rig_id: rig, night } } };
  const frames = asked.useQuery("get", "/api/rigs/{rig_id}/nights/{night}/frames", path);
  const say = useChange((body: Sent) =>
    get(api.POST("/api/rigs/{rig_id}/nights/{night}/kept", { ...path, body })),
  );
  const [names, setNames] = useState("");
  const [list, setList] = useState<"only" | "kept" | "not">("only");
  const all = frames.data?.frames ?? [];
  const undo = say.variables && say.data && say.data.changed.length > 0 && !say.variables.others;
  return (
    <section>
      <ColumnHead note={`${all.filter((f) => f.kept).length} of ${all.length}`}>Lights kept</ColumnHead>
      <div className="grid grid-cols-[minmax(0,1fr)_300px] gap-6 max-md:grid-cols-1">
        <FrameList
          frames={all}
          busy={say.isPending}
          onKeep={(id, kept) => say.mutate({ ...ONE, frames: [id], kept })}
        />
        <form
          className="flex flex-col gap-2 pt-1"
          onSubmit={(event) => {
            event.preventDefault();
            say.mutate({ ...ONE, names, kept: list !== "not", others: list === "only" });
          }}
        >
          <textarea
            aria-label="Names of lights, one a line"
            placeholder="Names, one a line, as another program lists them"
            value={names}
            rows={4}
            onChange={(event) => setNames(event.target.value)}
            className="num rounded-sm border border-rule bg-card px-2 py-1 text-s"
          />
          <div className="flex items-center gap-2">
            <select
              aria-label="What the list says"
              value={list}
              onChange={(event) => setList(event.target.value as typeof list)}
              className="h-8 rounded-sm border border-rule bg-card px-2 max-md:h-11"
            >
              <option value="only">these are kept, the others not</option>
              <option value="kept">these are kept</option>
              <option value="not">these are not kept</option>
            </select>
            <Button type="submit" disabled={!names.trim() || say.isPending}>
              Say so
            </Button>
          </div>
          {say.data && (
            <p role="status" className="text-s text-ink2">
              {say.data.message}{" "}
              {undo && (
                <Button
                  look="link"
                  onClick={() => say.mutate({ ...ONE, frames: say.data.changed, kept: !say.variables.kept })}
                >
                  Take it back
                </Button>
              )}
              {say.data.not_found.length > 0 && (
                <span className="block">Not found: {say.data.not_found.slice(0, 5).join(", ")}</span>
              )}
            </p>
          )}
          {say.error ? <Trouble error={say.error} /> : null}
        </form>
      </div>
      {frames.error ? <Trouble error={frames.error} onRetry={() => void frames.refetch()} /> : null}
    </section>
  );
}
