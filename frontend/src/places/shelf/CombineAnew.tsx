import { useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, Trouble } from "../../parts/basics";
import { NumberField } from "../../parts/NumberField";

type How = Schemas["CombineIn"];

const field = "h-8 rounded-sm border border-rule bg-card px-2";

/** How the frames are combined anew: the usual way, or another one. The former master stays until it is removed. */
export function CombineAnew({ id, pending, few }: { id: number; pending: number; few: boolean }) {
  const [open, setOpen] = useState(false);
  const [how, setHow] = useState<How>({ method: "clipped mean", kappa: 3.3, rounds: 3, spread: "pooled" });
  const again = useChange((sent: How) =>
    get(api.POST("/api/holdings/{set_id}/again", { params: { path: { set_id: id } }, body: sent })),
  );
  const set = (values: Partial<How>) => setHow((h) => ({ ...h, ...values }));
  if (!open) {
    return (
      <>
        {pending > 0 && (
          <Button look="ink" disabled={again.isPending} onClick={() => again.mutate(how)}>
            Combine anew with {pending === 1 ? "the frame changed" : `${pending} frames changed`}
          </Button>
        )}
        <Button onClick={() => setOpen(true)}>{pending > 0 ? "In another way" : "Combine anew"} …</Button>
        {again.error ? <Trouble error={again.error} /> : null}
      </>
    );
  }
  return (
    <form
      className="flex w-full flex-wrap items-center gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        again.mutate(how);
      }}
    >
      <select
        aria-label="How the frames are combined"
        className={field}
        value={how.method}
        onChange={(e) => set({ method: e.target.value as How["method"] })}
      >
        <option value="clipped mean">mean, outliers left out</option>
        <option value="mean">plain mean</option>
        <option value="median">median</option>
        {few && <option value="mean without extremes">mean without the lowest and highest</option>}
      </select>
      {how.method === "clipped mean" && (
        <>
          <label className="flex items-center gap-1">
            beyond
            <NumberField
              aria-label="Outliers lie beyond so many σ"
              className={`${field} num w-16 text-right`}
              value={how.kappa}
              onChange={(kappa) => kappa !== null && set({ kappa })}
            />
            σ
          </label>
          {how.spread !== "pooled" && (
            <label className="flex items-center gap-1">
              up to
              <input
                type="number"
                min="1"
                max="10"
                aria-label="Rounds of leaving out"
                className={`${field} num w-14 text-right`}
                value={how.rounds}
                onChange={(e) => set({ rounds: Number(e.target.value) })}
              />
              rounds
            </label>
          )}
          <select
            aria-label="What σ is taken from"
            className={field}
            value={how.spread}
            onChange={(e) => set({ spread: e.target.value as How["spread"] })}
          >
            <option value="pooled">of all pixels together</option>
            <option value="std">of each pixel</option>
            <option value="mad">of each pixel, by MAD</option>
          </select>
        </>
      )}
      <Button look="ink" type="submit" disabled={again.isPending}>
        Combine anew
      </Button>
      {again.data && !again.error && <span role="status">Begun: it is under Work.</span>}
      {again.error ? <Trouble error={again.error} /> : null}
    </form>
  );
}
