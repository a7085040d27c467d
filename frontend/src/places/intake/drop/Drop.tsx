import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";

import { api, get } from "../../../api/client";
import { Bar, Button, Scroller, Trouble } from "../../../parts/basics";
import { FIELD } from "../WhichFrames";
import { chosenIn, type Dropped, droppedIn, type Progress, type Sent } from "./sending";
import { useSending } from "./useSending";
import { several } from "../../../parts/several";

const megabytes = (bytes: number) =>
  bytes >= 1e9 ? `${(bytes / 1e9).toFixed(1)} GB` : `${(bytes / 1e6).toFixed(0)} MB`;
/** How far it is, and a way to stop: what is there stays, and is gone on with. */
function OnTheWay({ progress, whole, onStop }: { progress: Progress; whole: number; onStop: () => void }) {
  return (
    <div role="status" className="flex flex-col gap-1.5">
      <p className="num text-s break-all">{progress.now}</p>
      <Bar share={progress.sentBytes / progress.wholeBytes} label="Sent" />
      <p className="flex items-center justify-between gap-3 text-s text-ink2">
        <span>
          {progress.files.toLocaleString("en")} of {several(whole, "file")}, {megabytes(progress.sentBytes)}{" "}
          of {megabytes(progress.wholeBytes)}
        </span>
        <Button onClick={onStop}>Stop</Button>
      </p>
    </div>
  );
}

/** What became of them. */
function Came({ sent }: { sent: Sent }) {
  return (
    <div role="status">
      <p>
        {several(sent.isNew, "file")} came in whole{sent.isNew > 0 && ", and are being scanned"}.
        {sent.wasThere > 0 && ` ${several(sent.wasThere, "file")} were there already.`}
      </p>
      {sent.refused.length > 0 && (
        <Scroller name="What did not come in" className="mt-1 max-h-40 border-l-4 border-accent pl-2.5">
          <ul className="text-s">
            {sent.refused.map((one) => (
              <li key={one.path} className="break-all">
                {one.path}: {one.why}
              </li>
            ))}
          </ul>
        </Scroller>
      )}
    </div>
  );
}

/** Where they go, and the word to begin. */
function Ready({
  dropped,
  onSend,
  onDrop,
}: {
  dropped: Dropped[];
  onSend: (into: string) => void;
  onDrop: () => void;
}) {
  const offered = useQuery({ queryKey: ["sending into"], queryFn: () => get(api.GET("/api/sending/into")) });
  const [typed, setTyped] = useState<string | null>(null);
  const into = typed ?? offered.data?.into ?? "";
  const size = dropped.reduce((sum, d) => sum + d.file.size, 0);
  return (
    <form
      className="flex flex-col gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        onSend(into);
      }}
    >
      <label className="flex flex-col gap-1 text-s text-ink2">
        {several(dropped.length, "file")}, {megabytes(size)}, into the folder
        <input
          value={into}
          // What is offered must not come between the letters of what is typed.
          disabled={offered.isPending}
          spellCheck={false}
          onChange={(event) => setTyped(event.target.value)}
          className={`num text-m text-ink ${FIELD}`}
        />
      </label>
      <span className="flex gap-2">
        <Button type="submit" look="accent" disabled={!into.trim()}>
          Bring them in
        </Button>
        <Button look="link" onClick={onDrop}>
          Not these
        </Button>
      </span>
    </form>
  );
}

/** Files and folders dropped onto the page, or chosen: sent in pieces, checked by hash, then scanned. */
export function Drop() {
  const sending = useSending();
  const [over, setOver] = useState(false);
  const files = useRef<HTMLInputElement>(null);
  const folder = useRef<HTMLInputElement>(null);
  const busy = sending.progress !== null;
  return (
    <section
      aria-label="Files from elsewhere"
      className={`flex flex-col gap-2 rounded-sm border border-dashed px-3 py-2.5 ${over ? "border-ink bg-card" : "border-rule"}`}
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        event.preventDefault();
        setOver(false);
        if (!busy) void droppedIn(event.dataTransfer).then(sending.take);
      }}
    >
      <p className="flex flex-wrap items-center gap-x-2">
        Drop files or folders here, or choose
        <button
          type="button"
          className="underline underline-offset-2"
          disabled={busy}
          onClick={() => files.current?.click()}
        >
          files
        </button>
        <button
          type="button"
          className="underline underline-offset-2"
          disabled={busy}
          onClick={() => folder.current?.click()}
        >
          a folder
        </button>
      </p>
      <input
        ref={files}
        type="file"
        multiple
        hidden
        aria-label="Files to bring in"
        onChange={(event) => sending.take(chosenIn(event.target.files))}
      />
      <input
        ref={(input) => {
          input?.setAttribute("webkitdirectory", "");
          folder.current = input;
        }}
        type="file"
        hidden
        aria-label="Folder to bring in"
        onChange={(event) => sending.take(chosenIn(event.target.files))}
      />
      {sending.progress ? (
        <OnTheWay progress={sending.progress} whole={sending.dropped.length} onStop={sending.stop} />
      ) : (
        sending.dropped.length > 0 && (
          <Ready
            dropped={sending.dropped}
            onSend={(into) => void sending.begin(into)}
            onDrop={() => sending.take([])}
          />
        )
      )}
      {sending.done && <Came sent={sending.done} />}
      {sending.error ? <Trouble error={sending.error} /> : null}
    </section>
  );
}
