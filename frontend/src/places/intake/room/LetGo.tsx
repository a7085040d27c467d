import { useMemo, useState } from "react";

import { api, get, type Schemas } from "../../../api/client";
import { useChange, useRoomPreview } from "../../../api/hooks";
import { Button, Segments, Trouble } from "../../../parts/basics";
import { FIELD } from "../WhichFrames";
import { useSettled } from "../meant";
import { several } from "../../../parts/several";

type Way = Schemas["LetGoIn"]["way"];

const WAYS: { value: Way; label: string; does: string; button: string }[] = [
  {
    value: "pack",
    label: "pack",
    button: "Pack",
    does: "Each becomes a .fits.fz beside itself, which any program of the open standard reads. It is unpacked and compared byte for byte before the plain file goes.",
  },
  {
    value: "move",
    label: "move to another disk",
    button: "Move",
    does: "They are copied, read back and compared before the old ones go. Their sets and masters stay as they are.",
  },
  {
    value: "throw",
    label: "throw away",
    button: "Throw away",
    does: "They are put aside on their own disk and can be brought back, until you delete them for good.",
  },
];
/** What would become of the frames that are chosen, and what is lost by it; then it is done. */
export function LetGo({ setIds, onDone }: { setIds: number[]; onDone: () => void }) {
  const [way, setWay] = useState<Way>("pack");
  const [root, setRoot] = useState("");
  const body = useSettled(useMemo(() => ({ set_ids: setIds, way, root }), [setIds, way, root]));
  const preview = useRoomPreview(body);
  const start = useChange(() => get(api.POST("/api/room/let-go", { body })), onDone);
  const told = preview.data;
  const words = WAYS.find((w) => w.value === way) ?? WAYS[0];
  const ready = !!told && !told.trouble && told.n_frames > 0 && !preview.isFetching;
  return (
    <section aria-label="What becomes of them" className="border border-ink bg-card px-4 py-3">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <Segments label="What becomes of them" value={way} options={WAYS} onChange={setWay} />
        {way === "move" && (
          <label className="flex min-w-0 flex-1 items-center gap-2">
            into
            <input
              value={root}
              placeholder="/media/…/raw frames"
              spellCheck={false}
              onChange={(event) => setRoot(event.target.value)}
              className={`num min-w-0 flex-1 ${FIELD}`}
            />
          </label>
        )}
      </div>
      <p className="pt-2 text-ink2">{words?.does}</p>
      {told && told.lost.length > 0 && (
        <div className="pt-2">
          <p className="font-semibold">What is lost by it</p>
          <ul aria-label="What is lost by it">
            {told.lost.map((line) => (
              <li key={line}>{line}</li>
            ))}
          </ul>
        </div>
      )}
      {told?.stays.map((s) => (
        <p key={s.name} className="pt-1 text-s">
          <b className="num font-semibold">{s.count.toLocaleString("en")}</b> stay as they are: {s.name}
        </p>
      ))}
      {told?.trouble && root.trim() ? (
        <p role="alert" className="pt-1 text-accent">
          {told.trouble} {told.advice}
        </p>
      ) : null}
      <div className="flex flex-wrap items-center gap-4 pt-3">
        <Button
          look="accent"
          large
          disabled={!ready || start.isPending}
          onClick={() => start.mutate(undefined)}
        >
          {told?.n_frames ? `${words?.button} ${several(told.n_frames, "frame")}` : words?.button}
        </Button>
        <span className="text-ink2">{told?.n_frames ? `${told.size_text} now.` : ""}</span>
      </div>
      {start.error ? <Trouble error={start.error} /> : null}
      {preview.error ? <Trouble error={preview.error} /> : null}
    </section>
  );
}
