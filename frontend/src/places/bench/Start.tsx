import { useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange, type BenchKind } from "../../api/hooks";
import { Button, ColumnHead, Trouble } from "../../parts/basics";
import { FilterStamp } from "../../parts/FilterStamp";
import { NumberField } from "../../parts/NumberField";
import { numberOf } from "../../parts/typedNumber";

type BenchData = Schemas["BenchOut"];

const span = (seconds: number) =>
  seconds < 90
    ? `${Math.round(seconds)}\u2009s`
    : seconds < 5400
      ? `${Math.round(seconds / 60)}\u2009min`
      : `${Math.floor(seconds / 3600)}\u2009h ${String(Math.round((seconds % 3600) / 60)).padStart(2, "0")}\u2009min`;

const field =
  "num h-8 rounded-sm border border-rule bg-card px-2 text-right [appearance:textfield] [&::-webkit-inner-spin-button]:appearance-none";

interface Begins {
  data: BenchData;
  kind: BenchKind;
  rig: number;
  onStarted: (measurement: number) => void;
}

/** The gains that can be measured, each ticked or not. */
function Gains({
  data,
  gains,
  setGains,
}: {
  data: BenchData;
  gains: number[];
  setGains: (gains: number[]) => void;
}) {
  const offered = [...new Set([...data.gains.map((g) => g.gain), ...gains])].sort((a, b) => a - b);
  const tick = (gain: number, on: boolean) =>
    setGains(on ? [...gains, gain].sort((a, b) => a - b) : gains.filter((g) => g !== gain));
  return (
    <ul>
      {offered.map((gain) => (
        <li key={gain} className="border-b border-line">
          <label className="flex cursor-pointer items-baseline gap-3 py-1.5">
            <input
              type="checkbox"
              className="accent-ink"
              checked={gains.includes(gain)}
              onChange={(event) => tick(gain, event.target.checked)}
            />
            <span className="min-w-20 font-semibold whitespace-nowrap">
              {data.gains.find((g) => g.gain === gain)?.text ?? `${data.gain_word} ${gain}`}
            </span>
            <span className="text-s text-ink2">
              {data.gains.find((g) => g.gain === gain)?.note ?? "added by you"}
            </span>
          </label>
        </li>
      ))}
    </ul>
  );
}

/** A gain that is not offered. */
function AnotherGain({ data, onAdd }: { data: BenchData; onAdd: (gain: number) => void }) {
  const [more, setMore] = useState("");
  const add = () => {
    const value = numberOf(more);
    const [least, most] = data.gain_range ?? [0, 1e6];
    if (Number.isFinite(value) && value >= (least ?? 0) && value <= (most ?? 1e6)) {
      onAdd(value);
      setMore("");
    }
  };
  return (
    <label className="flex items-center gap-2">
      another {data.gain_word}
      <input
        className={`${field} w-16`}
        inputMode="decimal"
        value={more}
        onChange={(event) => setMore(event.target.value)}
        onKeyDown={(event) => event.key === "Enter" && add()}
      />
      <Button onClick={add} disabled={more === ""}>
        Add
      </Button>
    </label>
  );
}

function Through({
  data,
  filter,
  setFilter,
}: {
  data: BenchData;
  filter: string | null;
  setFilter: (code: string) => void;
}) {
  return (
    <div className="pt-3" role="group" aria-label="Filter to measure through">
      <p className="pb-1.5 text-ink2">Through which filter? A narrow one makes the panel dim enough.</p>
      <span className="flex flex-wrap gap-1.5">
        {data.filters.map((f) => (
          <button
            key={f.code}
            type="button"
            aria-pressed={f.code === filter}
            onClick={() => setFilter(f.code)}
            className={`rounded-sm p-0.5 ${f.code === filter ? "outline-2 outline-ink" : "opacity-80"}`}
          >
            <FilterStamp code={f.code} nm={f.passband_nm} />
          </button>
        ))}
      </span>
    </div>
  );
}

/** Choose gains, and shoot. */
function Shoot({ data, kind, rig, onStarted }: Begins) {
  const word = data.gain_word;
  const [gains, setGains] = useState<number[]>(() =>
    data.gains.filter((g) => (kind === "gain" ? true : g.in_use)).map((g) => g.gain),
  );
  const [margin, setMargin] = useState<number | null>(null);
  const [filter, setFilter] = useState(data.filter_code);
  const [folder, setFolder] = useState("");
  const [low, high] = data.offset_range ?? [0, 100];
  const [offsets, setOffsets] = useState<[number, number]>([low ?? 0, high ?? 100]);
  const hand = !data.can_shoot;
  const shoot = useChange(
    () =>
      get(
        api.POST("/api/rigs/{rig_id}/bench/{kind}/shoot", {
          params: { path: { rig_id: rig, kind } },
          body: {
            gains,
            margin_adu: margin,
            long_dark_s: 60,
            filter_code: kind === "gain" ? filter : null,
            folder: hand ? folder : null,
            offset_from: offsets[0],
            offset_to: offsets[1],
          },
        }),
      ),
    (made) => onStarted(made.measurement_id),
  );
  const takes = span(data.seconds_per_gain * gains.length);
  return (
    <section>
      <ColumnHead
        note={data.gain_range ? `${word} ${data.gain_range[0]} to ${data.gain_range[1]}` : undefined}
      >
        {hand ? "Shoot with your own program" : "Shoot"}
      </ColumnHead>
      <Gains data={data} gains={gains} setGains={setGains} />
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2 pt-2.5">
        {!data.one_gain && (
          <AnotherGain
            data={data}
            onAdd={(gain) => setGains([...new Set([...gains, gain])].sort((a, b) => a - b))}
          />
        )}
        {kind === "offset" && (
          <label className="flex items-center gap-2">
            margin
            <NumberField
              className={`${field} w-16`}
              placeholder="usual"
              value={margin}
              onChange={setMargin}
            />
            ADU
          </label>
        )}
      </div>
      {hand && (
        <div className="flex flex-wrap items-center gap-x-5 gap-y-2 pt-2.5">
          {kind === "offset" && (
            <span className="flex items-center gap-2">
              offsets from
              <input
                aria-label="Lowest offset of the camera"
                className={`${field} w-16`}
                type="number"
                min={0}
                value={offsets[0]}
                onChange={(event) => setOffsets([Number(event.target.value), offsets[1]])}
              />
              to
              <input
                aria-label="Highest offset of the camera"
                className={`${field} w-16`}
                type="number"
                min={0}
                value={offsets[1]}
                onChange={(event) => setOffsets([offsets[0], Number(event.target.value)])}
              />
            </span>
          )}
          <input
            aria-label="The folder that your program writes into"
            placeholder="Folder it writes into"
            className="num h-8 min-w-0 flex-1 rounded-sm border border-rule bg-card px-2 placeholder:font-sans max-md:h-11"
            value={folder}
            onChange={(event) => setFolder(event.target.value)}
          />
        </div>
      )}
      {kind === "gain" && data.filters.length > 0 && (
        <Through data={data} filter={filter} setFilter={setFilter} />
      )}
      <div className="flex items-center gap-4 pt-4">
        <Button
          look="accent"
          large
          disabled={gains.length === 0 || shoot.isPending || (hand && !folder.trim())}
          onClick={() => shoot.mutate(undefined)}
        >
          {gains.length === 0
            ? `Choose ${data.one_gain ? word : `a ${word}`}`
            : hand
              ? `Watch for about ${data.frames_per_gain * gains.length} frames`
              : `Shoot about ${data.frames_per_gain * gains.length} frames, ${takes}`}
        </Button>
      </div>
      <p className="pt-2 text-s text-ink2">
        {kind === "offset"
          ? "Bias frames, cap on; coarse to fine, and fresh ones at the answer."
          : "Bias and pairs of flats, panel on; the exposure varies, the light does not."}
      </p>
      {shoot.error && (
        <div className="pt-3">
          <Trouble error={shoot.error} />
        </div>
      )}
    </section>
  );
}

/** Measure frames that are there. */
function FromDisk({ data, kind, rig, onStarted }: Begins) {
  const disk = useChange(
    (sets: number[]) =>
      get(
        api.POST("/api/rigs/{rig_id}/bench/{kind}/disk", {
          params: { path: { rig_id: rig, kind } },
          body: { set_ids: sets },
        }),
      ),
    (made) => onStarted(made.measurement_id),
  );
  const quick =
    kind === "gain" ? "; enough for a quick estimate" : "; one offset only: it can be judged, not compared";
  return (
    <section>
      <ColumnHead>Use frames on disk</ColumnHead>
      {!data.can_shoot && !data.by_folder && (
        <p className="border-b border-line py-2 text-ink2">{data.cannot}</p>
      )}
      <ul>
        {data.disk.map((offer) => (
          <li key={offer.gain} className="flex items-center gap-3 border-b border-line py-2">
            <span className="min-w-0 flex-1">
              <b className="font-semibold">{offer.gain_text}</b>
              <span className="block text-s text-ink2">
                {offer.text}
                {offer.quick && quick}
              </span>
            </span>
            <Button disabled={disk.isPending} onClick={() => disk.mutate(offer.set_ids)}>
              Measure these
            </Button>
          </li>
        ))}
      </ul>
      {data.disk.length === 0 && (
        <p className="py-2 text-ink2">
          {kind === "offset"
            ? "No raw bias frames of this camera are in the library. Scan a folder with some in Intake."
            : "No raw flats with bias frames of the same gain are in the library. Two of each will do."}
        </p>
      )}
      {disk.error && (
        <div className="pt-3">
          <Trouble error={disk.error} />
        </div>
      )}
    </section>
  );
}

/** Choose gains and shoot, or use frames that are there. */
export function Start(begins: Begins) {
  return (
    <div className="flex flex-col gap-6">
      {(begins.data.can_shoot || begins.data.by_folder) && <Shoot {...begins} />}
      <FromDisk {...begins} />
    </div>
  );
}
