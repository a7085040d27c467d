import { useState } from "react";

import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { Button, Segments, Trouble } from "../../../parts/basics";
import { filterName } from "../../../parts/filterName";
import { NumberField } from "../../../parts/NumberField";
import { type Row, twins, type Sheet } from "./keys";

type Sought = "rows" | "time" | "brightness" | "both" | "shared";

/** What is looked for: as each row wishes, or the same for all that are started now. */
const SOUGHT: { value: Sought; label: string }[] = [
  { value: "rows", label: "as each row says" },
  { value: "time", label: "the time; brightness stays" },
  { value: "brightness", label: "the brightness; time stays" },
  { value: "both", label: "both, near a time" },
  { value: "shared", label: "one exposure for all filters" },
];

/** What is looked for in all that are started now, where the light can be dimmed. */
function SoughtField({
  sought,
  setSought,
  seconds,
  setSeconds,
}: {
  sought: Sought;
  setSought: (sought: Sought) => void;
  seconds: number | null;
  setSeconds: (seconds: number | null) => void;
}) {
  return (
    <div className="flex flex-wrap items-center gap-x-2 gap-y-1.5">
      <label className="flex items-center gap-2">
        Find
        <select
          aria-label="What is looked for"
          className="h-8 rounded-sm border border-rule bg-card px-2"
          value={sought}
          onChange={(e) => setSought(SOUGHT.find((o) => o.value === e.target.value)?.value ?? "rows")}
        >
          {SOUGHT.map((o) => (
            <option key={o.value} value={o.value}>
              {o.label}
            </option>
          ))}
        </select>
      </label>
      {TIMED.includes(sought) && (
        <label className="flex items-center gap-2">
          {sought === "brightness" ? "at" : "near"}
          <NumberField
            aria-label="Exposure for all that are started now, in seconds"
            className="num h-8 w-16 rounded-sm border border-rule bg-card px-2 text-right"
            value={seconds}
            onChange={setSeconds}
          />
          s
        </label>
      )}
    </div>
  );
}

/** What is looked for near an exposure. */
const TIMED: Sought[] = ["brightness", "both", "shared"];

/** The buttons that begin: for what is picked, for all, for one, for those without an answer. */
function StartButtons({
  data,
  picked,
  one,
  blocked,
  start,
}: {
  data: Sheet;
  picked: Row[];
  one: Row | undefined;
  blocked: boolean;
  start: (rows: Row[]) => void;
}) {
  const failed = data.rows.filter((r) => r.state === "no answer");
  const some = picked.length > 0 && picked.length < data.rows.length;
  const named = (row: Row) =>
    twins(row, data.rows)
      ? `${filterName(row.key.filter_code)} at ${row.key.gain}, binning ${row.key.binning}`
      : filterName(row.key.filter_code);
  const all = data.rows.length === 1 ? "Find the setting" : `Find all ${data.rows.length} settings`;
  return (
    <>
      <Button
        look={some || data.rows.every((r) => r.state === "never") ? "accent" : "plain"}
        large
        disabled={blocked || data.rows.length === 0}
        onClick={() => start(some ? picked : data.rows)}
      >
        {some ? `Find ${picked.map((r) => filterName(r.key.filter_code)).join(", ")}` : all}
      </Button>
      {some && (
        <Button large disabled={blocked} onClick={() => start(data.rows)}>
          All {data.rows.length}
        </Button>
      )}
      {one && !(picked.length === 1 && picked[0] === one) && data.rows.length > 1 && (
        <Button large disabled={blocked} onClick={() => start([one])}>
          Only {named(one)}
        </Button>
      )}
      {failed.length > 0 && !(one && failed.length === 1 && failed[0] === one) && (
        <Button large disabled={blocked} onClick={() => start(failed)}>
          {failed.length === 1
            ? `Only ${filterName(failed[0]?.key.filter_code ?? "")}, without answer`
            : `Only the ${failed.length} without answer`}
        </Button>
      )}
    </>
  );
}

/** Where a search begins: which rows, by the rig or by a watched folder, and what is looked for. */
export function StartSearch({
  data,
  rig,
  picked,
  one,
  response,
  onCancel,
}: {
  data: Sheet;
  rig: number;
  picked: Row[];
  one?: Row | undefined;
  response: boolean;
  onCancel?: () => void;
}) {
  const [by, setBy] = useState<"rig" | "folder">(data.can_shoot ? "rig" : "folder");
  const [folder, setFolder] = useState("");
  const [sought, setSought] = useState<Sought>("rows");
  const [seconds, setSeconds] = useState<number | null>(data.defaults.exposure_s ?? 2);
  const find = useChange(
    (body: Schemas["FindIn"]) =>
      get(api.POST("/api/rigs/{rig_id}/flats/find", { params: { path: { rig_id: rig } }, body })),
    () => onCancel?.(),
  );
  const start = (rows: Row[]) =>
    find.mutate({
      keys: rows.map((r) => r.key),
      shared: sought === "shared" && !response,
      mode: response || sought === "rows" || sought === "shared" ? null : sought,
      exposure_s: TIMED.includes(sought) && !response ? seconds : null,
      response,
      folder: by === "folder" ? folder : null,
    });
  const blocked = find.isPending || !(by === "rig" ? data.can_shoot : folder.trim() !== "");
  return (
    <section className="flex flex-col gap-2.5 border-t border-ink pt-2.5">
      <div className="flex flex-wrap items-center gap-3">
        <Segments
          label="How test flats are taken"
          value={by}
          options={[
            { value: "rig", label: "With the rig" },
            { value: "folder", label: "Watch a folder" },
          ]}
          onChange={setBy}
        />
      </div>
      {data.panel !== null && !response && (
        <SoughtField sought={sought} setSought={setSought} seconds={seconds} setSeconds={setSeconds} />
      )}
      {by === "rig" && data.cannot && <p className="text-ink2">{data.cannot}</p>}
      {by === "folder" && (
        <label className="flex flex-col gap-1 text-s text-ink2">
          Folder that your camera program writes to
          <input
            className="num h-9 w-full rounded-sm border border-rule bg-card px-2 text-m text-ink"
            placeholder="/home/…/flats"
            value={folder}
            onChange={(e) => setFolder(e.target.value)}
          />
        </label>
      )}
      <div className="flex flex-wrap gap-2">
        {response ? (
          <Button
            look="accent"
            large
            disabled={blocked || data.rows.length === 0}
            onClick={() => start(data.rows)}
          >
            Measure {data.source}
          </Button>
        ) : (
          <StartButtons data={data} picked={picked} one={one} blocked={blocked} start={start} />
        )}
        {onCancel && (
          <Button large onClick={onCancel}>
            Not now
          </Button>
        )}
      </div>
      {find.error && <Trouble error={find.error} />}
    </section>
  );
}
