import { useState } from "react";

import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { Button, Trouble } from "../../../parts/basics";
import { filterName } from "../../../parts/filterName";
import { Editor } from "./Editor";
import { asItIs, keyText, type Key, type Row, type Sheet } from "./keys";
import { AddRow } from "./AddRow";
import { type Kept, SheetTable } from "./SheetTable";

/** What can be done with the rows of a rig's sheet. */
function useSheetChanges(rig: number, picked: Row[]) {
  const path = { rig_id: rig };
  const copy = useChange((source: Key) =>
    get(
      api.POST("/api/rigs/{rig_id}/flats/copy", {
        params: { path },
        body: { source, keys: picked.map((r) => r.key) },
      }),
    ),
  );
  const out = useChange((keys: Key[]) =>
    get(api.POST("/api/rigs/{rig_id}/flats/leave-out", { params: { path }, body: { keys } })),
  );
  const undo = useChange(async (rows: Kept["before"]) => {
    for (const { key, wishes } of rows)
      await get(
        api.POST("/api/rigs/{rig_id}/flats/rows", {
          params: { path },
          body: { keys: [key], changes: wishes as Schemas["FlatWishesOut"] },
        }),
      );
  });
  const back = useChange((key: Key) =>
    get(api.POST("/api/rigs/{rig_id}/flats/add", { params: { path }, body: key })),
  );
  return { copy, out, undo, back };
}

type Changes = ReturnType<typeof useSheetChanges>;

/** Makes the chosen rows wish what another one does. */
function CopyFrom({
  rows,
  picked,
  copy,
  onCopied,
}: {
  rows: Row[];
  picked: Row[];
  copy: Changes["copy"];
  onCopied: (source: Row) => void;
}) {
  const [from, setFrom] = useState("");
  const source = rows.find((r) => keyText(r.key) === from);
  return (
    <span className="flex items-center gap-2">
      <select
        aria-label="Row to copy what is wanted from"
        className="h-8 rounded-sm border border-rule bg-card px-2"
        value={from}
        onChange={(e) => setFrom(e.target.value)}
      >
        <option value="">Copy what is wanted from…</option>
        {rows.map((r) => (
          <option key={r.name} value={keyText(r.key)}>
            {r.name}
          </option>
        ))}
      </select>
      <Button
        disabled={!source || copy.isPending}
        onClick={() => source && copy.mutate(source.key, { onSuccess: () => onCopied(source) })}
      >
        Copy to {picked.length}
      </Button>
    </span>
  );
}

/** What is done with the rows stands below them. */
function SheetActions({
  data,
  rig,
  picked,
  names,
  changes,
  onEdit,
  onOut,
  remember,
}: {
  data: Sheet;
  rig: number;
  picked: Row[];
  names: string;
  changes: Changes;
  onEdit: () => void;
  onOut: () => void;
  remember: (said: string) => void;
}) {
  return (
    <div className="flex flex-wrap items-center gap-3">
      <Button disabled={picked.length === 0} onClick={onEdit}>
        {picked.length === 0
          ? "Choose rows to change them"
          : `Change ${picked.length === 1 ? picked[0]?.key.filter_code : `${picked.length} rows`}`}
      </Button>
      {picked.length > 0 && data.rows.length > 1 && (
        <CopyFrom
          rows={data.rows}
          picked={picked}
          copy={changes.copy}
          onCopied={(source) => remember(`${names}: wanted as for ${source.name}.`)}
        />
      )}
      {picked.length > 0 && (
        <Button look="link" onClick={onOut}>
          Leave off the sheet
        </Button>
      )}
      {data.left_out.map((key) => (
        <Button key={keyText(key)} look="link" onClick={() => changes.back.mutate(key)}>
          Put {filterName(key.filter_code)} (gain {key.gain}, bin {key.binning}) back
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
  );
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
  const [kept, setKept] = useState<Kept | null>(null);
  const picked = data.rows.filter((r) => chosen.has(keyText(r.key)));
  const changes = useSheetChanges(rig, picked);
  const { copy, out, undo, back } = changes;
  const remember = (said: string) =>
    setKept({ said, before: picked.map((r) => ({ key: r.key, wishes: asItIs(r) })) });
  const names =
    picked.length > 4 ? `${picked.length} rows` : picked.map((r) => filterName(r.key.filter_code)).join(", ");
  const light = data.sources.find((s) => s.name === data.source);
  // A long sheet scrolls by itself, so that what is done with it stays in sight.
  const long = data.rows.length > 12 ? "max-h-[max(300px,calc(100vh-460px))] overflow-y-auto" : "";
  return (
    <div className="flex flex-col gap-4">
      <div className={`overflow-x-auto ${long}`}>
        <SheetTable rows={data.rows} chosen={chosen} setChosen={setChosen} onLook={onLook} />
        {data.rows.length === 0 && (
          <p className="py-6 text-l text-ink2">
            No lights of this rig tell a gain yet. Where its camera has none to set, say so on a slip of its
            lights; else put a row on the sheet, or scan lights in Intake.
          </p>
        )}
      </div>
      <SheetActions
        data={data}
        rig={rig}
        picked={picked}
        names={names}
        changes={changes}
        onEdit={() => setEditing((e) => !e)}
        onOut={() => {
          out.mutate(picked.map((r) => r.key));
          setChosen(new Set());
        }}
        remember={remember}
      />
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
