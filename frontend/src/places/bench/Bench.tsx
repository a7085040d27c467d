import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";

import { useBench, useMeasurement, type BenchKind } from "../../api/hooks";
import { Button, HeadChoice, PageHead, Trouble, Waiting } from "../../parts/basics";
import { useHere } from "../../parts/context";
import { FlatSheet } from "./flats/FlatSheet";
import { GainView } from "./Gain";
import { KINDS, type BenchPage } from "./kinds";
import { OffsetView } from "./Offset";
import { CameraCard } from "./Shared";
import { Start } from "./Start";
import { type Schemas } from "../../api/client";

/** How the exercise goes, where none was done yet. */
function Explain({ kind }: { kind: BenchKind }) {
  const steps =
    kind === "offset"
      ? [
          ["Cap on, shortest exposure", "Bias frames at a few offsets, from the highest down."],
          ["Where the darkest pixels lie", "All frames together tell how far below the pedestal they reach."],
          [
            "The lowest offset that holds",
            "Confirmed with fresh frames and one long dark; its cost beside it.",
          ],
        ]
      : [
          [
            "Panel on, one brightness",
            "Pairs of flats from near the pedestal to past saturation, and bias frames.",
          ],
          [
            "Noise against light",
            "Photon noise grows with the light; its slope is the gain in e⁻ for each ADU.",
          ],
          [
            "Which gain for what",
            "Read noise, full well and range side by side, and a suggestion with its reason.",
          ],
        ];
  return (
    <section className="flex min-h-[480px] flex-col justify-center border border-line bg-card px-10 py-8">
      <h2 className="pb-5 text-xl font-semibold">
        {kind === "offset"
          ? "Which offset keeps dark pixels from being cut off at zero?"
          : "How many electrons are in one ADU, and which gain serves you best?"}
      </h2>
      <ol className="flex flex-col gap-4">
        {steps.map(([head, text], i) => (
          <li key={head} className="grid grid-cols-[40px_1fr] items-baseline">
            <span className="num text-xl">{i + 1}</span>
            <span>
              <b className="block text-l font-semibold">{head}</b>
              <span className="text-ink2">{text}</span>
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}

/** Of a camera that has no offset: why, and what to do where it has one after all. */
function NoneToSet({ head, why }: Schemas["NoneToSetOut"]) {
  return (
    <section className="max-w-[776px] border border-line bg-card px-10 py-8 max-md:px-4">
      <h2 className="text-xl font-semibold">{head}</h2>
      <p className="py-3">{why}</p>
      <p className="text-ink2">
        Has it one after all?{" "}
        <Link className="underline underline-offset-2" to="/rigs">
          Say its range on the camera’s sheet
        </Link>
        , then it is found here.
      </p>
    </section>
  );
}

/** Before any frame is known: what the Bench does, and what it needs. */
function NoCamera({ kind }: { kind: BenchKind }) {
  const navigate = useNavigate();
  return (
    <div className="mx-auto max-w-[1280px] px-6 pt-2.5 pb-6 max-md:px-4">
      <PageHead
        title={
          <HeadChoice<BenchPage>
            options={KINDS.filter((k) => k.value !== "flats")}
            value={kind}
            onChange={(value) => void navigate(`/bench/${value}`)}
          />
        }
      />
      <div className="grid grid-cols-[minmax(0,776px)_minmax(380px,1fr)] items-start gap-6 max-lg:grid-cols-1">
        <Explain kind={kind} />
        <section className="border-t border-ink pt-3">
          <h2 className="text-l font-semibold">No camera is known yet.</h2>
          <p className="py-2">
            The Bench measures from frames on your disk:{" "}
            {kind === "offset"
              ? "raw bias frames at a few offsets"
              : "pairs of flats and some bias frames of one gain and offset"}
            .{" "}
            <Link className="underline underline-offset-2" to="/intake">
              Name their folder in Intake
            </Link>
            , then come back. Or{" "}
            <Link className="underline underline-offset-2" to="/rigs">
              describe your rig on Rigs
            </Link>{" "}
            and shoot them for the Bench, with its devices or your own program.
          </p>
        </section>
      </div>
    </div>
  );
}

/** The Bench: measuring the gear, one chart with its reading beside it. */
export function Bench() {
  const { rig } = useHere();
  const { kind } = useParams();
  if (rig && kind === "flats") return <FlatSheet rig={rig.id} key={rig.id} />;
  return <Camera />;
}

/** What is measured of the camera: its offset, its gain. */
function Camera() {
  const { rig } = useHere();
  const { kind = "offset" } = useParams();
  const [query, setQuery] = useSearchParams();
  const navigate = useNavigate();
  const known: BenchKind = kind === "gain" ? "gain" : "offset";
  const bench = useBench(rig?.id ?? 0, known);
  const [gone, setGone] = useState<number | null>(null);
  const starting = query.get("start") !== null;
  const asked = query.get("m");
  const newest = bench.data?.measurements.find((m) => m.id !== gone)?.id ?? null;
  const current = starting ? null : asked ? Number(asked) : newest;
  const measured = useMeasurement(current);
  if (!rig) return <NoCamera kind={known} />;
  const change = (changes: Record<string, string | null>) => {
    const next = new URLSearchParams(query);
    for (const [key, value] of Object.entries(changes))
      if (value === null) next.delete(key);
      else next.set(key, value);
    setQuery(next, { replace: true });
  };
  const data = bench.data?.kind === known ? bench.data : undefined;
  const shown =
    measured.data && measured.data.id === current && measured.data.kind === known ? measured.data : null;
  const gain = query.get("gain") === null ? null : Number(query.get("gain"));
  const busy = shown?.job?.can_stop === true;
  const View = known === "offset" ? OffsetView : GainView;
  return (
    <div className="mx-auto max-w-[1280px] px-6 pt-2.5 pb-6 max-md:px-4">
      <PageHead
        title={
          <HeadChoice<BenchPage>
            options={[...KINDS]}
            value={known}
            onChange={(value) => void navigate(`/bench/${value}`)}
          />
        }
      >
        {data && (
          <>
            {shown && data.measurements.length > 1 ? (
              <label className="flex items-baseline gap-2 text-ink2 max-md:hidden">
                <span className="max-lg:hidden">{shown.conditions}</span>
                <select
                  aria-label="Measurement"
                  className="h-8 max-w-[260px] rounded-sm border border-rule bg-card px-2 text-ink"
                  value={shown.id}
                  onChange={(event) => change({ m: event.target.value, gain: null })}
                >
                  {data.measurements.map((m) => (
                    <option key={m.id} value={m.id}>
                      {m.title}, {m.when}, {m.source}
                    </option>
                  ))}
                </select>
              </label>
            ) : (
              <span className="text-ink2 max-md:hidden">
                {shown ? `${shown.conditions}, ${shown.when}` : data.camera}
              </span>
            )}
            {(shown || starting) && !busy && data.measurements.length > 0 && (
              <Button onClick={() => change(starting ? { start: null } : { start: "", m: null, gain: null })}>
                {starting ? "Back to the measurement" : "Measure again"}
              </Button>
            )}
          </>
        )}
      </PageHead>
      {bench.error && !data && <Trouble error={bench.error} onRetry={() => void bench.refetch()} />}
      {measured.error && current !== null && (
        <Trouble error={measured.error} onRetry={() => change({ m: null })} />
      )}
      {!data && !bench.error && <Waiting what="Looking at the camera" />}
      {data && current === null && data.none_to_set && <NoneToSet {...data.none_to_set} />}
      {data && current === null && !data.none_to_set && (
        <div className="grid grid-cols-[minmax(0,776px)_minmax(380px,1fr)] items-start gap-6 max-lg:grid-cols-1">
          <div className="flex flex-col gap-6">
            <Explain kind={known} />
            <CameraCard rows={data.accepted} rig={rig.id} kind={known} camera={data.camera} />
          </div>
          <Start
            key={known}
            data={data}
            kind={known}
            rig={rig.id}
            onStarted={(id) => change({ start: null, m: String(id), gain: null })}
          />
        </div>
      )}
      {data && current !== null && !shown && !measured.error && <Waiting what="Reading the measurement" />}
      {data && shown && (
        <View
          key={shown.id}
          data={shown}
          bench={data}
          rig={rig.id}
          gain={gain}
          onGain={(value) => change({ gain: String(value) })}
          onForgotten={() => {
            setGone(shown.id);
            change({ m: null, gain: null });
          }}
        />
      )}
    </div>
  );
}
