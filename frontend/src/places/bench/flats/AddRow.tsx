import { useState } from "react";

import { api, get } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { Button, Trouble } from "../../../parts/basics";
import { numberOf } from "../../../parts/typedNumber";
import { type Key, type Sheet } from "./keys";

/** A row that no light asks for yet. */
export function AddRow({ data, rig }: { data: Sheet; rig: number }) {
  const [code, setCode] = useState(data.filters[0] ?? "");
  const [gain, setGain] = useState(String(data.usual_gains[data.filters[0] ?? ""] ?? data.gains[0] ?? 100));
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
          gain: numberOf(gain),
          offset: numberOf(offset),
          binning: Number(binning),
        });
      }}
    >
      <span className="text-ink2">Another row:</span>
      <select
        aria-label="Filter"
        className="h-8 rounded-sm border border-rule bg-card px-2"
        value={code}
        onChange={(e) => {
          setCode(e.target.value);
          const usual = data.usual_gains[e.target.value];
          if (usual !== undefined) setGain(String(usual));
        }}
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
      <Button
        type="submit"
        disabled={add.isPending || ![gain, offset].every((text) => Number.isFinite(numberOf(text)))}
      >
        Put it on the sheet
      </Button>
      {add.error && <Trouble error={add.error} />}
    </form>
  );
}
