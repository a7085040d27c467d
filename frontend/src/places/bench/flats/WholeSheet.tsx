import { useState } from "react";

import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { Button, Trouble } from "../../../parts/basics";
import { FilterStamp } from "../../../parts/FilterStamp";
import { Ruler } from "../../../parts/Ruler";
import { Editor } from "./Editor";
import { asItIs, keyText, type Key, type Row, type Wishes } from "./keys";

type Sheet = Schemas["FlatSheetOut"];

/** A row that no light asks for yet. */
function AddRow({ data, rig }: { data: Sheet; rig: number }) {
  const [code, setCode] = useState(data.filters[0] ?? "");
  const [gain, setGain] = useState(String(data.gains[0] ?? 100));
  const [offset, setOffset] = useState(String(data.offsets[0] ?? 30));
  const [binning, setBinning] = useState("2");
  const add = useChange((key: Key) =>
    get(api.POST("/api/rigs/{rig_id}/flats/add", { params: { path: { rig_id: rig } }, body: key })),
  );
  const box = "num h-8 w-16 rounded-sm border border-rule bg-card px-2 text-right";
  return (
    <form
      className="flex flex-wrap items-center gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate({
          filter_code: code,
          gain: Number(gain),
          offset: Number(offset),
          binning: Number(binning),
        });
      }}
    >
      <span className="text-ink2">Another row:</span>
      <select
        aria-label="Filter"
        className="h-8 rounded-sm border border-rule bg-card px-2"
        value={code}
        onChange={(e) => setCode(e.target.value)}
      >
        {data.filters.map((name) => (
          <option key={name}>{name}</option>
        ))}
      </select>
      <label className="flex items-center gap-1.5">
        gain
        <input className={box} inputMode="decimal" value={gain} onChange={(e) => setGain(e.target.value)} />
      </label>
      <label className="flex items-center gap-1.5">
        offset
        <input
          className={box}
          inputMode="decimal"
          value={offset}
          onChange={(e) => setOffset(e.target.value)}
        />
      </label>
      <label className="flex items-center gap-1.5">
        binning
        <select
          className="num h-8 rounded-sm border border-rule bg-card px-1"
          value={binning}
          onChange={(e) => setBinning(e.target.value)}
        >
          {["1", "2", "3", "4"].map((n) => (
            <option key={n}>{n}</option>
          ))}
        </select>
      </label>
      <Button type="submit" disabled={add.isPending}>
        Put it on the sheet
      </Button>
      {add.error && <Trouble error={add.error} />}
    </form>
  );
}

/** What was changed last, and what takes it back. */
interface Kept {
  said: string;
  before: { key: Key; wishes: Wishes }[];
}

/** Every row with everything it wishes and what was found; many can be changed at once. */
export function WholeSheet({
  data,
  rig,
  chosen,
  setChosen,
  onLook,
}: {
  data: Sheet;
  rig: number;
  chosen: Set<string>;
  setChosen: (chosen: Set<string>) => void;
  onLook: (key: Key) => void;
}) {
  const [editing, setEditing] = useState(false);
  const [from, setFrom] = useState("");
  const [kept, setKept] = useState<Kept | null>(null);
  const picked = data.rows.filter((r) => chosen.has(keyText(r.key)));
  const copy = useChange((source: Key) =>
    get(
      api.POST("/api/rigs/{rig_id}/flats/copy", {
        params: { path: { rig_id: rig } },
        body: { source, keys: picked.map((r) => r.key) },
      }),
    ),
  );
  const out = useChange((keys: Key[]) =>
    get(
      api.POST("/api/rigs/{rig_id}/flats/leave-out", { params: { path: { rig_id: rig } }, body: { keys } }),
    ),
  );
  const undo = useChange(async (rows: Kept["before"]) => {
    for (const { key, wishes } of rows)
      await get(
        api.POST("/api/rigs/{rig_id}/flats/rows", {
          params: { path: { rig_id: rig } },
          body: { keys: [key], changes: wishes as Schemas["FlatWishesOut"] },
        }),
      );
  });
  const remember = (said: string) =>
    setKept({ said, before: picked.map((r) => ({ key: r.key, wishes: asItIs(r) })) });
  const names = picked.length > 4 ? `${picked.length} rows` : picked.map((r) => r.key.filter_code).join(", ");
  const back = useChange((key: Key) =>
    get(api.POST("/api/rigs/{rig_id}/flats/add", { params: { path: { rig_id: rig } }, body: key })),
  );
  const toggle = (row: Row) => {
    const next = new Set(chosen);
    const name = keyText(row.key);
    if (next.has(name)) next.delete(name);
    else next.add(name);
    setChosen(next);
  };
  const all = chosen.size === data.rows.length && chosen.size > 0;
  const light = data.sources.find((s) => s.name === data.source);
  // What is done with the rows stands below them: a long sheet scrolls by itself, so that it stays in sight.
  const long = data.rows.length > 12;
  const head = "narrow pt-1 pb-1.5 px-1.5 text-s font-semibold align-bottom";
  return (
    <div className="flex flex-col gap-4">
      <div
        className={`overflow-x-auto ${long ? "max-h-[max(300px,calc(100vh-460px))] overflow-y-auto" : ""}`}
      >
        <table className="w-full border-collapse">
          <thead className="bg-paper shadow-[inset_0_-1px_0_var(--ink)] sticky top-0 z-10">
            <tr className="text-left">
              <th className={head}>
                <input
                  type="checkbox"
                  aria-label="Choose all rows"
                  className="accent-[var(--ink)]"
                  checked={all}
                  onChange={() => setChosen(all ? new Set() : new Set(data.rows.map((r) => keyText(r.key))))}
                />
              </th>
              <th className={head}>Filter</th>
              <th className={`${head} text-right`}>Gain</th>
              <th className={`${head} text-right`}>Offset</th>
              <th className={`${head} text-right`}>Bin</th>
              <th className={`${head} text-right`}>Target</th>
              <th className={`${head} text-right`}>Tolerance</th>
              <th className={head}>Window</th>
              <th className={head}>Find</th>
              <th className={head}>Light</th>
              <th className={`${head} text-right`}>Frames</th>
              <th className={`${head} text-right`}>Panel</th>
              <th className={`${head} text-right`}>Exposure</th>
              <th className={head}>Level</th>
              <th className={head}>Age</th>
            </tr>
          </thead>
          <tbody>
            {data.rows.map((row, at) => {
              // What is the same as in the row above need not be read again.
              const above = data.rows[at - 1];
              const news = (name: "target_more" | "tolerance_more" | "reasons") =>
                above?.[name] === row[name] ? "" : row[name];
              const own = (names: string[]) =>
                names.some((n) => row.own.includes(n)) ? "font-semibold underline decoration-dotted" : "";
              const cell = "px-1.5 py-1.5 align-top";
              return (
                <tr key={row.name} className="border-b border-line">
                  <td className={cell}>
                    <input
                      type="checkbox"
                      aria-label={`Choose ${row.name}`}
                      className="accent-[var(--ink)]"
                      checked={chosen.has(keyText(row.key))}
                      onChange={() => toggle(row)}
                    />
                  </td>
                  <td className={cell}>
                    <button type="button" onClick={() => onLook(row.key)} aria-label={`Look at ${row.name}`}>
                      <FilterStamp code={row.key.filter_code} nm={row.passband_nm} />
                    </button>
                    <span className="block text-s whitespace-nowrap text-ink2">{row.lights}</span>
                  </td>
                  <td className={`${cell} num text-right`}>{row.key.gain}</td>
                  <td className={`${cell} num text-right`}>{row.key.offset}</td>
                  <td className={`${cell} num text-right`}>{row.key.binning}</td>
                  <td className={`${cell} num text-right whitespace-nowrap`}>
                    <span className={own(["level_percent", "level_adu", "level_electrons"])}>
                      {row.target}
                    </span>
                    <span className="ml-auto block max-w-[150px] font-sans text-s whitespace-normal text-ink2">
                      {news("target_more")}
                    </span>
                  </td>
                  <td className={`${cell} num text-right whitespace-nowrap`}>
                    <span className={own(["tolerance_percent", "tolerance_adu"])}>{row.tolerance}</span>
                    <span className="block font-sans text-s text-ink2">{news("tolerance_more")}</span>
                  </td>
                  <td className={cell}>
                    <span
                      className={`num whitespace-nowrap ${own(["shortest_s", "longest_s", "shortest_reason", "longest_reason"])}`}
                    >
                      {row.window}
                    </span>
                    <span className="block max-w-[180px] text-s text-ink2">{news("reasons")}</span>
                  </td>
                  <td className={`${cell} max-w-[110px]`}>
                    <span className={own(["mode", "brightness", "exposure_s"])}>{row.mode_text}</span>
                  </td>
                  <td className={`${cell} max-w-[120px]`}>
                    <span className={own(["source"])}>{row.source}</span>
                    {row.diffusers && (
                      <span className={`block text-s text-ink2 ${own(["diffusers"])}`}>
                        behind {row.diffusers}
                      </span>
                    )}
                  </td>
                  <td className={`${cell} num text-right whitespace-nowrap`}>
                    <span className={own(["n_flats", "n_dark_flats"])}>{row.counts}</span>
                  </td>
                  <td className={`${cell} num text-right`}>{row.brightness}</td>
                  <td className={`${cell} num text-right font-medium whitespace-nowrap`}>{row.exposure}</td>
                  <td className={`${cell} whitespace-nowrap`}>
                    {row.ruler ? <Ruler ruler={row.ruler} width={56} /> : null}
                    {row.expected !== "–" && (
                      <span className="num block text-s text-ink2">{row.expected}</span>
                    )}
                    {row.state === "no answer" && (
                      <span className="text-s text-accent">{row.no_answer?.direction}</span>
                    )}
                    {row.state === "never" && <span className="text-s text-ink2">never looked for</span>}
                  </td>
                  <td className={`${cell} max-w-[130px] text-s`}>
                    {row.age}
                    {(row.stale || row.drift) && (
                      <span className="block text-accent">
                        {[row.stale, row.drift].filter(Boolean).join("; ")}
                      </span>
                    )}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
        {data.rows.length === 0 && (
          <p className="py-6 text-l text-ink2">
            No lights of this rig tell a gain and an offset yet. Put a row on the sheet, or scan lights in
            Intake.
          </p>
        )}
      </div>
      <div className="flex flex-wrap items-center gap-3">
        <Button disabled={picked.length === 0} onClick={() => setEditing((e) => !e)}>
          {picked.length === 0
            ? "Choose rows to change them"
            : `Change ${picked.length === 1 ? picked[0]?.key.filter_code : `${picked.length} rows`}`}
        </Button>
        {picked.length > 0 && data.rows.length > 1 && (
          <span className="flex items-center gap-2">
            <select
              aria-label="Row to copy what is wanted from"
              className="h-8 rounded-sm border border-rule bg-card px-2"
              value={from}
              onChange={(e) => setFrom(e.target.value)}
            >
              <option value="">Copy what is wanted from…</option>
              {data.rows.map((r) => (
                <option key={r.name} value={keyText(r.key)}>
                  {r.name}
                </option>
              ))}
            </select>
            <Button
              disabled={!from || copy.isPending}
              onClick={() => {
                const source = data.rows.find((r) => keyText(r.key) === from);
                if (source)
                  copy.mutate(source.key, {
                    onSuccess: () => remember(`${names}: wanted as for ${source.name}.`),
                  });
              }}
            >
              Copy to {picked.length}
            </Button>
          </span>
        )}
        {picked.length > 0 && (
          <Button
            look="link"
            onClick={() => {
              out.mutate(picked.map((r) => r.key));
              setChosen(new Set());
            }}
          >
            Leave off the sheet
          </Button>
        )}
        {data.left_out.map((key) => (
          <Button key={keyText(key)} look="link" onClick={() => back.mutate(key)}>
            Put {key.filter_code} (gain {key.gain}, bin {key.binning}) back
          </Button>
        ))}
        <span className="flex-1" />
        <a
          className="text-s text-ink2 underline underline-offset-2 hover:no-underline"
          href={`/api/rigs/${rig}/flats.csv`}
          download
        >
          Save the sheet as CSV
        </a>
      </div>
      {kept && (
        <p role="status" className="flex items-baseline gap-3">
          {kept.said}
          <Button
            look="link"
            disabled={undo.isPending}
            onClick={() => undo.mutate(kept.before, { onSuccess: () => setKept(null) })}
          >
            Undo
          </Button>
        </p>
      )}
      {[copy.error, out.error, back.error, undo.error].map((error, i) =>
        error ? <Trouble key={i} error={error} /> : null,
      )}
      {editing && picked.length > 0 && (
        <Editor
          key={picked.map((r) => r.name).join()}
          rows={picked}
          rig={rig}
          dims={light?.dimmable ?? data.can_shoot}
          diffusers={(light?.diffusers ?? []).map((d) => d.name)}
          sources={data.sources.map((s) => s.name)}
          onDone={(changed) => {
            if (changed) remember(`What is wanted of ${names} is kept.`);
            setEditing(false);
          }}
        />
      )}
      <AddRow data={data} rig={rig} />
    </div>
  );
}
