import { useState, type ReactNode } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, ColumnHead, Trouble } from "../../parts/basics";

export type Rig = Schemas["RigOut"];

type Changed = Schemas["SheetChangedOut"];

export const path = (rig: number) => ({ params: { path: { rig_id: rig } } });

/** A sheet that is typed and kept; what was kept can be taken back at once. */
export function Sheet<T>({
  title,
  note,
  rig,
  begin,
  keep,
  children,
}: {
  title: string;
  note?: string;
  rig: number;
  begin: T;
  keep: (typed: T) => Promise<Changed>;
  children: (typed: T, set: (values: Partial<T>) => void) => ReactNode;
}) {
  const [typed, setTyped] = useState(begin);
  const [shown, setShown] = useState(begin);
  // What was kept, or taken back, comes back from the server: the sheet shows it, and still says what was done.
  if (JSON.stringify(shown) !== JSON.stringify(begin)) {
    setShown(begin);
    setTyped(begin);
  }
  const kept = useChange(keep);
  const back = useChange((id: number) =>
    get(
      api.POST("/api/rigs/{rig_id}/changes/{change_id}/take-back", {
        params: { path: { rig_id: rig, change_id: id } },
      }),
    ),
  );
  const changed = JSON.stringify(typed) !== JSON.stringify(begin);
  const id = kept.data?.change_id;
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        back.reset();
        kept.mutate(typed);
      }}
    >
      <ColumnHead note={note}>{title}</ColumnHead>
      <div className="flex flex-col gap-1.5 pt-3">
        {children(typed, (values) => setTyped((t) => ({ ...t, ...values })))}
      </div>
      <div className="flex min-h-9 flex-wrap items-center gap-3 pt-3">
        <Button look="ink" type="submit" disabled={!changed || kept.isPending}>
          Keep this
        </Button>
        {changed && (
          <Button look="link" onClick={() => setTyped(begin)}>
            Leave it as it was
          </Button>
        )}
        {kept.data && !kept.error && !changed && (
          <span role="status" className="text-s text-ink2">
            {(back.data ?? kept.data).message}{" "}
            {id != null && !back.data && (
              <button type="button" className="underline" onClick={() => back.mutate(id)}>
                Take it back
              </button>
            )}
          </span>
        )}
      </div>
      {(kept.error ?? back.error) && <Trouble error={kept.error ?? back.error} />}
    </form>
  );
}
