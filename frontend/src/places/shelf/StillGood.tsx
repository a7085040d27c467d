import { useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange, useJobAction, useJobs } from "../../api/hooks";
import { Bar, Button, Trouble } from "../../parts/basics";
import { JobCutShort } from "../../parts/JobCards";
import { Pick } from "../../parts/Pick";
import { TakeBack } from "../../parts/TakeBack";

type Held = Schemas["HeldOut"];

/** How it did when it was held against something newer. */
function Answer({
  held,
  onSee,
  onForget,
}: {
  held: NonNullable<Held["held"]>;
  onSee: () => void;
  onForget: () => void;
}) {
  const good = held.serves === "still good";
  return (
    <div className="flex items-baseline justify-between gap-3">
      <p>
        <span className={`font-semibold ${good ? "" : "text-accent"}`}>
          {held.serves[0]?.toUpperCase()}
          {held.serves.slice(1)}:
        </span>{" "}
        {held.line}, against {held.against}.
      </p>
      <span className="flex shrink-0 items-baseline gap-3 text-s text-ink2">
        {held.frame_id !== null && (
          <button type="button" className="underline" onClick={onSee}>
            See what is left
          </button>
        )}
        <TakeBack what={`that it is ${held.serves}`} onClick={onForget} />
      </span>
    </div>
  );
}

/** Whether a master still serves: held against a newer one, or against one fresh frame. */
export function StillGood({ id, held, onSee }: { id: number; held: Held; onSee: (frame: number) => void }) {
  const [frame, setFrame] = useState(held.newer[0]?.frame_id ?? 0);
  const hold = useChange(() =>
    get(
      api.PUT("/api/holdings/{set_id}/held", { params: { path: { set_id: id } }, body: { frame_id: frame } }),
    ),
  );
  const jobs = useJobs();
  const act = useJobAction();
  const going = jobs.data?.alive.find((j) => j.id === hold.data?.id);
  const ended = jobs.data?.ended.find((j) => j.id === hold.data?.id);
  const forget = useChange(() =>
    get(api.DELETE("/api/holdings/{set_id}/held", { params: { path: { set_id: id } } })),
  );
  const chosen = held.newer.find((n) => n.frame_id === frame);
  if (held.newer.length === 0 && !held.held) {
    return (
      <p className="border-t border-line pt-2 text-ink2">
        Still good? Nothing of its settings was taken later: shoot one frame like it, and hold it against
        that.
      </p>
    );
  }
  return (
    <section className="border-t border-line pt-3" data-part="still-good">
      <h3 className="narrow font-semibold">Still good?</h3>
      {held.held && (
        <Answer
          held={held.held}
          onSee={() => held.held?.frame_id && onSee(held.held.frame_id)}
          onForget={() => forget.mutate(undefined)}
        />
      )}
      {going && (
        <div className="mt-1 flex items-center gap-3">
          <span className="w-56">
            <Bar share={going.progress} label={going.title} />
          </span>
          <span className="num text-s text-ink2">{Math.round(going.progress * 100)} %</span>
          <Button onClick={() => act.mutate({ id: going.id, action: "stop" })}>Stop</Button>
        </div>
      )}
      {ended && ended.state !== "done" && <JobCutShort job={ended} what="Comparing" />}
      {chosen && !going && (
        <div className="mt-1 flex items-center gap-2">
          <span>Hold it against</span>
          <Pick
            label="Hold it against"
            value={frame}
            groups={[
              {
                title: "",
                options: held.newer.map((n) => ({ value: n.frame_id, title: n.title, detail: n.detail })),
              },
            ]}
            onChange={setFrame}
          />
          <Button disabled={hold.isPending} onClick={() => hold.mutate(undefined)}>
            See whether it is still good
          </Button>
        </div>
      )}
      {hold.error ? <Trouble error={hold.error} /> : null}
      {forget.error ? <Trouble error={forget.error} /> : null}
    </section>
  );
}
