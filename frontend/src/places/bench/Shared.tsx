import { useMutation } from "@tanstack/react-query";
import { Link } from "react-router";

import { api, get, type Problem, type Schemas } from "../../api/client";
import { useForgetMeasurement, useChange, type BenchKind } from "../../api/hooks";
import { Button, ColumnHead, Trouble } from "../../parts/basics";
import { AskedNext } from "../../parts/AskedNext";
import { GateCard } from "../../parts/Gate";
import { JobBar, JobCutShort, StopButton } from "../../parts/JobCards";
import { TakeBack } from "../../parts/TakeBack";

type Measured = Schemas["MeasurementOut"];

/** What goes on: the gate that waits, the progress, what comes next, pause and stop; or how to go on. */
export function GoingOn({ data, next }: { data: Measured; next: string }) {
  const job = data.job;
  if (!job) return null;
  if (data.gate) return <GateCard gate={data.gate} job={job} />;
  if (data.hand && job.can_stop)
    return (
      <AskedNext asked={{ ...data.hand, detail: data.hand.before, why: next.replace(/^.*Why: |\.$/g, "") }}>
        <StopButton job={job} />
      </AskedNext>
    );
  if (job.can_stop)
    return (
      <JobBar job={job} title={job.state === "paused" ? "Paused" : "Measuring"}>
        {next || job.message}
      </JobBar>
    );
  return <JobCutShort job={job} what="The measurement" />;
}

/** What the reader must know of the frames. */
export function Findings({ items, notes }: { items: Schemas["FindingOut"][]; notes: string[] }) {
  return (
    <>
      {items.map((item) => (
        <p
          key={item.message}
          className={`border-l-4 py-0.5 pl-3 ${item.serious ? "border-accent" : "border-rule"}`}
        >
          {item.message} {item.advice && <b className="font-semibold">{item.advice}</b>}
        </p>
      ))}
      {notes.map((note) => (
        <p key={note} className="border-l-4 border-rule py-0.5 pl-3 text-ink2">
          {note}
        </p>
      ))}
    </>
  );
}

/** The camera's card: what counts at each gain. */
export function CameraCard({
  rows,
  rig,
  kind,
  camera,
}: {
  rows: Schemas["AcceptedOut"][];
  rig: number;
  kind: BenchKind;
  camera: string;
}) {
  const back = useChange((gain: number) =>
    get(
      api.POST("/api/rigs/{rig_id}/bench/take-back", {
        params: { path: { rig_id: rig } },
        body: { kind, gain },
      }),
    ),
  );
  return (
    <section>
      <ColumnHead
        note={
          <>
            {camera}
            {rows.some((r) => r.when) && (
              <a
                className="ml-3 underline underline-offset-2 hover:no-underline"
                href={`/api/rigs/${rig}/bench/${kind}/kept.csv`}
                download
              >
                CSV
              </a>
            )}
          </>
        }
      >
        Kept with the camera
      </ColumnHead>
      <table className="w-full">
        <tbody>
          {rows.map((row) => (
            <tr key={row.gain} className="border-b border-line align-baseline">
              <th scope="row" className="py-1.5 pr-2 text-left font-semibold whitespace-nowrap">
                {row.gain_text}
              </th>
              <td className="num py-1.5 pr-3 text-right whitespace-nowrap">{row.value}</td>
              <td className="py-1.5 pr-3 text-s text-ink2">
                {row.detail}
                {row.when && `, ${row.when}`}
                {row.warning && <span className="block text-ink">{row.warning}</span>}
              </td>
              <td className="py-1.5 text-right whitespace-nowrap">
                {row.when && <TakeBack what={row.gain_text} onClick={() => back.mutate(row.gain)} />}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {rows.length === 0 && (
        <p className="py-2 text-ink2">
          Nothing yet: no lights of this camera tell a gain, and nothing is measured.
        </p>
      )}
      {back.error && <Trouble error={back.error} />}
    </section>
  );
}

/** The frames of a measurement: how many, how much room, and the ways to be rid of them or get them back. */
export function KeptFrames({ data, onForgotten }: { data: Measured; onForgotten: () => void }) {
  const act = useChange((what: "throw-away" | "take-back" | "delete") =>
    get(
      api.POST("/api/measurements/{measurement_id}/frames/{what}", {
        params: { path: { measurement_id: data.id, what } },
      }),
    ),
  );
  const forgotten = useForgetMeasurement();
  const forget = useMutation<Schemas["Done"], Problem>({
    mutationFn: () =>
      get(
        api.POST("/api/measurements/{measurement_id}/forget", {
          params: { path: { measurement_id: data.id } },
        }),
      ),
    // The page turns away from it first: what is gone must not be asked for again.
    onSuccess: async () => {
      onForgotten();
      await forgotten(data.id);
    },
  });
  if (data.job?.can_stop) return null;
  const { count, size, state } = data.frames;
  return (
    <section className="flex flex-wrap items-baseline gap-x-3 gap-y-1 border-t border-line pt-2 text-s text-ink2">
      {state === "kept" && count > 0 && (
        <>
          <span>
            {count} frames kept, {size}
          </span>
          <Button look="link" onClick={() => act.mutate("throw-away")}>
            Throw them away
          </Button>
        </>
      )}
      {state === "thrown away" && (
        <>
          <span>
            {count} frames thrown away, {size} still on the disk
          </span>
          <Button look="link" onClick={() => act.mutate("take-back")}>
            Take them back
          </Button>
          <Button look="link" onClick={() => act.mutate("delete")}>
            Delete for good
          </Button>
        </>
      )}
      {state === "on the shelf" && (
        <span>
          {count} frames of yours, {size}, read and left where they are.{" "}
          <Link className="underline" to="/intake">
            Intake
          </Link>
        </span>
      )}
      {state === "deleted" && <span>Its frames were deleted; what they said is kept.</span>}
      {(state === "deleted" || state === "on the shelf" || count === 0) && (
        <Button look="link" onClick={() => forget.mutate()}>
          Forget this measurement
        </Button>
      )}
      {(act.error ?? forget.error) && <Trouble error={act.error ?? forget.error} />}
    </section>
  );
}

/** An earlier measurement to lay under the chart. */
export function LayUnder({
  label,
  earlier,
  value,
  onChange,
  className = "",
}: {
  label: string;
  earlier: Schemas["MeasurementOut"]["earlier"];
  value: number | null;
  onChange: (id: number | null) => void;
  className?: string;
}) {
  return (
    <label className={`flex items-baseline gap-1.5 ${className}`}>
      {label}
      <select
        className="rounded-sm border border-rule bg-card px-1 text-s text-ink"
        value={value ?? ""}
        onChange={(event) => onChange(event.target.value ? Number(event.target.value) : null)}
      >
        <option value="">nothing</option>
        {earlier.map((m) => (
          <option key={m.id} value={m.id}>
            {m.when}, {m.source}
          </option>
        ))}
      </select>
    </label>
  );
}
