import { useState } from "react";
import { useNavigate } from "react-router";

import { api, get } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button } from "../../parts/basics";

/** A night that had no lights, to note something of it. */
export function AddNight({ rig }: { rig: number }) {
  const [night, setNight] = useState("");
  const navigate = useNavigate();
  const add = useChange(
    () => get(api.POST("/api/rigs/{rig_id}/nights", { params: { path: { rig_id: rig } }, body: { night } })),
    () => {
      setNight("");
      void navigate(`/nights/${night}`);
    },
  );
  return (
    <form
      className="pb-2"
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate(undefined);
      }}
    >
      <div className="flex gap-1.5">
        <input
          type="date"
          aria-label="A night without lights"
          value={night}
          onChange={(event) => setNight(event.target.value)}
          className="num h-8 min-w-0 flex-1 rounded-sm border border-line bg-card px-1.5 text-s"
        />
        <Button type="submit" disabled={!night || add.isPending}>
          Add
        </Button>
      </div>
      {add.error ? (
        <p role="alert" className="pt-1 text-s text-accent">
          {add.error.message}
        </p>
      ) : null}
    </form>
  );
}
