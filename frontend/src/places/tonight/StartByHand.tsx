import { useState } from "react";

import type { Schemas } from "../../api/client";
import { Button, Trouble } from "../../parts/basics";
import { useStart } from "./useStart";

const PLACE = "watched folder";

/** Begin the sheet with the person's own program: its folder is watched, or steps are ticked off by hand. */
export function StartByHand({ data }: { data: Schemas["TonightOut"] }) {
  const [folder, setFolder] = useState(() => localStorage.getItem(PLACE) ?? "");
  const start = useStart(data.rig_id);
  return (
    <form
      className="mt-3 border-l-4 border-ink bg-card px-4 py-3"
      onSubmit={(event) => {
        event.preventDefault();
        localStorage.setItem(PLACE, folder.trim());
        start.mutate({ hand: true, folder: folder.trim() || null });
      }}
    >
      <label className="flex flex-wrap items-center gap-x-3 gap-y-2">
        <span>The folder that your program writes into</span>
        <input
          value={folder}
          onChange={(e) => setFolder(e.target.value)}
          placeholder="/home/…; empty: tick steps off by hand"
          className="num h-9 min-w-64 flex-1 rounded-sm border border-rule bg-card px-2 max-md:h-11 max-md:w-full"
        />
        <Button look="accent" large type="submit" disabled={start.isPending}>
          {data.by_hand_label}
        </Button>
      </label>
      <p className="pt-1 text-s text-ink2">
        {folder.trim()
          ? "Each frame that comes in is looked at within seconds: it ticks its step off, or it is said what is wrong. Nothing in the folder is changed."
          : "Without a folder each step is ticked off by hand, and its frames are found by the next scan."}
      </p>
      {start.error && <Trouble error={start.error} />}
    </form>
  );
}
