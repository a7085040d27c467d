import { useState } from "react";

import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { Button, ColumnHead, Trouble } from "../../../parts/basics";
import { TakeBack } from "../../../parts/TakeBack";
import { FIELD } from "../WhichFrames";
import { several } from "../../../parts/several";

/** Copies whose headers say it, for other programs: in a folder that is not there yet. */
function IntoCopies({ one }: { one: Schemas["SaidOut"] }) {
  const [folder, setFolder] = useState<string | null>(null);
  const write = useChange((where: string) =>
    get(
      api.POST("/api/mend/{mending_id}/copies", {
        params: { path: { mending_id: one.id } },
        body: { folder: where },
      }),
    ),
  );
  if (folder === null)
    return (
      <button
        type="button"
        className="-my-1 py-1 underline underline-offset-2 hover:no-underline"
        aria-label={`Write into copies: ${one.words}`}
        onClick={() => setFolder("")}
      >
        write into copies
      </button>
    );
  return (
    <form
      className="flex w-full flex-wrap items-center gap-2 py-1"
      onSubmit={(event) => {
        event.preventDefault();
        write.mutate(folder.trim());
      }}
    >
      <input
        aria-label="Folder for the copies"
        placeholder="a folder that is not there yet"
        value={folder}
        spellCheck={false}
        onChange={(event) => setFolder(event.target.value)}
        className={`num min-w-0 flex-1 text-ink ${FIELD}`}
      />
      <Button type="submit" disabled={!folder.trim() || write.isPending}>
        Write copies
      </Button>
      {write.data && !write.error && <span role="status">Work, at the right edge, shows how far it is.</span>}
      {write.error ? <Trouble error={write.error} /> : null}
    </form>
  );
}

/** What was said before, each with a way back. */
export function SaidBefore({ said }: { said: Schemas["SaidOut"][] }) {
  const back = useChange((id: number) =>
    get(api.POST("/api/mend/{mending_id}/take-back", { params: { path: { mending_id: id } } })),
  );
  if (said.length === 0) return null;
  return (
    <section>
      <ColumnHead
        note={
          <a className="underline underline-offset-2" href="/api/mend/said.csv">
            CSV
          </a>
        }
      >
        Said before
      </ColumnHead>
      {back.error ? <Trouble error={back.error} /> : null}
      <ul className="max-h-[420px] overflow-auto">
        {said.map((one) => (
          <li key={one.id} className="border-b border-line py-1.5">
            <p className={one.taken_back ? "text-ink2 line-through" : ""}>{one.words}</p>
            <p className="text-s break-words text-ink2">
              {several(one.n_frames, "frame")} {one.of}
            </p>
            <div className="flex flex-wrap justify-between gap-x-3 text-s text-ink2">
              <span className="num">{one.taken_back ? `taken back ${one.taken_back}` : one.on}</span>
              {!one.taken_back && <IntoCopies one={one} />}
              {!one.taken_back && <TakeBack what={one.words} onClick={() => back.mutate(one.id)} />}
            </div>
          </li>
        ))}
      </ul>
    </section>
  );
}
