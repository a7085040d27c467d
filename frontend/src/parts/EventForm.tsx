import { useState } from "react";

import { api, get, type Schemas } from "../api/client";
import { useChange } from "../api/hooks";
import { Button, Trouble } from "./basics";

/** Let an event that was entered by mistake count no more, or again. */
export const useEventBack = (rig: number) =>
  useChange((event: { id: number; taken_back: boolean }) =>
    get(
      api.POST("/api/rigs/{rig_id}/events/{event_id}/{what}", {
        params: {
          path: { rig_id: rig, event_id: event.id, what: event.taken_back ? "use" : "take-back" },
        },
      }),
    ),
  );

/** Enter what was done to a rig. */
export function EventForm({ usual: choices, rig }: { usual: Schemas["UsualEventOut"][]; rig: number }) {
  const [chosen, setChosen] = useState(0);
  const [what, setWhat] = useState("");
  const [on, setOn] = useState("");
  const enter = useChange((body: Schemas["EventIn"]) =>
    get(api.POST("/api/rigs/{rig_id}/events", { params: { path: { rig_id: rig } }, body })),
  );
  const usual = choices[chosen];
  return (
    <>
      <form
        className="flex flex-wrap items-center gap-2 pt-2"
        onSubmit={(e) => {
          e.preventDefault();
          if (!usual) return;
          enter.mutate(
            { kind: usual.kind, what: what.trim() || usual.what, on: on || null },
            {
              onSuccess: () => {
                setWhat("");
                setOn("");
              },
            },
          );
        }}
      >
        <select
          aria-label="Kind of event"
          className="h-8 rounded-sm border border-rule bg-card px-2"
          value={chosen}
          onChange={(e) => setChosen(Number(e.target.value))}
        >
          {choices.map((k, i) => (
            <option key={k.label} value={i}>
              {k.label}
            </option>
          ))}
        </select>
        <input
          type="date"
          aria-label="Day on which it was done; empty for now"
          title="The day on which it was done; empty: just now"
          className="num h-8 rounded-sm border border-rule bg-card px-1.5"
          value={on}
          onChange={(e) => setOn(e.target.value)}
        />
        <span className="flex w-full gap-2">
          <input
            aria-label="What was done"
            placeholder={usual?.what}
            className="h-8 min-w-0 flex-1 rounded-sm border border-rule bg-card px-2"
            value={what}
            onChange={(e) => setWhat(e.target.value)}
          />
          <Button type="submit" disabled={enter.isPending}>
            Enter it
          </Button>
        </span>
      </form>
      {enter.error && <Trouble error={enter.error} />}
    </>
  );
}
