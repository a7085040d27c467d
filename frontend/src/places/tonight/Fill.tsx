import { useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, PageHead, Trouble, Waiting } from "../../parts/basics";
import { noNumber } from "../../parts/typedNumber";
import { DemoPace } from "./DemoPace";
import { About, Before, Ladder } from "./FillSide";
import { Cell, FillWall } from "./FillWall";
import { OutOfReach } from "./OutOfReach";
import { SensorAfterwards } from "./SensorAfterwards";
import {
  asAsked,
  asQuery,
  toggled,
  useFill,
  useFillChoice,
  type EndBy,
  type FillCell,
  type FillChoice,
  type FillData,
} from "./useFill";

type Step = Schemas["StepOut"];

const FIELD = "num h-8 rounded-sm border border-rule bg-card px-2 text-right max-md:h-11";

/** How long there is: until a time, for hours, or as long as a battery lasts; and tonight's air. */
function TimeThereIs({
  choice,
  change,
  data,
}: {
  choice: FillChoice;
  change: (next: Partial<FillChoice>) => void;
  data: FillData | undefined;
}) {
  const field = (
    name: keyof FillChoice & ("until" | "hours" | "battery" | "watts"),
    width: string,
    label: string,
  ) => (
    <input
      aria-label={label}
      placeholder={name === "until" ? "05:30" : undefined}
      inputMode={name === "until" ? undefined : "decimal"}
      value={choice[name]}
      onChange={(event) => change({ [name]: event.target.value })}
      aria-invalid={name !== "until" && noNumber(choice[name])}
      className={`${FIELD} ${width} ${name !== "until" && noNumber(choice[name]) ? "border-accent" : ""}`}
    />
  );
  return (
    <div className="flex flex-wrap items-center gap-x-3 gap-y-2">
      <select
        aria-label="What ends it"
        value={choice.by}
        onChange={(event) => change({ by: event.target.value as EndBy })}
        className="h-8 rounded-sm border border-rule bg-card px-2 font-semibold max-md:h-11"
      >
        <option value="until">Until</option>
        <option value="hours">For</option>
        <option value="battery">On a battery of</option>
      </select>
      {choice.by === "until" && field("until", "w-28", "Until")}
      {choice.by === "hours" && <>{field("hours", "w-16", "Hours")} hours</>}
      {choice.by === "battery" && (
        <>
          {field("battery", "w-20", "Watt hours")} Wh at {field("watts", "w-16", "Watts")} W
        </>
      )}
      <label className="flex items-center gap-2 text-ink2">
        in air of
        <input
          value={choice.air}
          inputMode="decimal"
          placeholder={data?.air.replace("\u2009°C", "")}
          onChange={(event) => change({ air: event.target.value })}
          aria-invalid={noNumber(choice.air)}
          className={`${FIELD} w-16 ${noNumber(choice.air) ? "border-accent" : ""}`}
        />
        °C
      </label>
      {data?.has_devices && (
        <span className="text-ink2">
          <SensorAfterwards then={choice.sensor} onChange={(sensor) => change({ sensor })} />
        </span>
      )}
    </div>
  );
}

/** The time there is as a bar: what is shot in it, and what is left. */
function NightBar({ data }: { data: FillData }) {
  const live = data.steps.filter((s) => s.kind !== "build");
  const first = live[0];
  if (!first) return null;
  const begin = Date.parse(first.start);
  const end = Math.max(Date.parse(live.at(-1)?.end ?? first.end), Date.parse(data.there_is_end));
  const share = (from: string, to: string) => ((Date.parse(to) - Date.parse(from)) / (end - begin)) * 100;
  const say = (step: Step) => `${step.title}, ${step.start_clock} to ${step.end_clock}`;
  return (
    <div
      role="img"
      aria-label={live.map(say).join("; ")}
      className="relative flex h-9 border border-ink bg-card"
    >
      {live.map((step) => (
        <span
          key={step.id}
          title={say(step)}
          className={`flex flex-wrap content-start overflow-hidden border-r border-paper px-1.5 text-s whitespace-nowrap ${
            step.kind === "gate" ? "bg-accent" : step.kind === "cool" ? "hatch bg-board" : "bg-ink text-paper"
          }`}
          style={{ width: `${share(step.start, step.end)}%` }}
        >
          {/* Words that find no room beside this fall below the bar, out of sight, rather than being cut. */}
          <i className="h-full w-0" />
          <span className="flex h-full items-center">
            {step.kind === "gate" || step.kind === "cool" ? "" : step.title}
          </span>
        </span>
      ))}
      {data.over ? (
        <span
          className="absolute -top-1.5 -bottom-1.5 border-l-[3px] border-accent"
          style={{ left: `${share(first.start, data.there_is_end)}%` }}
        />
      ) : (
        <span className="flex min-w-0 flex-1 items-center justify-end px-2 text-s text-ink2">
          <span className="truncate">
            {data.left} left<span className="max-md:hidden"> until {data.until}</span>
          </span>
        </span>
      )}
    </div>
  );
}

function Totals({ data }: { data: FillData }) {
  const told: [string, string][] = [
    ["series", String(data.series)],
    ["frames", String(data.frames)],
    ["takes", data.takes],
    ["done at", data.end ?? "–"],
    ["needs", data.space],
  ];
  return (
    <dl className="flex flex-wrap items-baseline gap-x-6 gap-y-1">
      {told.map(([name, value]) => (
        <div key={name} className="flex items-baseline gap-1.5">
          <dt className="text-ink2">{name}</dt>
          <dd className="num font-medium">{value}</dd>
        </div>
      ))}
      {data.waiting > 0 && (
        <div className="flex items-baseline gap-1.5">
          <dt className="text-ink2">lights that have no dark</dt>
          <dd className="num font-medium">
            {data.served} of {data.waiting} served
          </dd>
        </div>
      )}
    </dl>
  );
}

/** Filling the shelf: of all darks and bias that are missing, thin or old, those that help most in the time there is. */
export function Fill({ rigId, onBack }: { rigId: number; onBack: () => void }) {
  const { choice, change, asProposed } = useFillChoice(rigId);
  const fill = useFill(rigId, choice);
  const [about, setAbout] = useState<string | null>(null);
  const start = useChange(async (byHand: boolean) => {
    const started = await get(
      api.POST("/api/rigs/{rig_id}/fill", {
        params: { path: { rig_id: rigId } },
        body: { ...asAsked(choice), by_hand: byHand },
      }),
    );
    // Not when it has settled: the run's own page may have come in between, and this one be gone.
    onBack();
    return started;
  });
  const data = fill.data;
  const cells = data ? [...data.walls.flatMap((w) => w.rows.flatMap((r) => r.cells)), ...data.bias] : [];
  const cell = cells.find((c) => c?.key === about) ?? null;
  const toggle = (one: FillCell) => change(toggled(choice, one));
  const changed = choice.put_on.length + choice.left_out.length + Object.keys(choice.counts).length > 0;
  const address = new URLSearchParams(
    Object.entries(asQuery(choice)).map(([k, v]): [string, string] => [k, String(v)]),
  );
  return (
    <div className="flex flex-col gap-3 px-6 pb-4 max-md:px-4 md:h-full">
      <div className="max-md:hidden">
        <PageHead title={data?.headline ?? "Fill the shelf"}>
          <DemoPace />
          {data && <span className="num whitespace-nowrap text-ink2">now {data.clock}</span>}
          <Button onClick={onBack}>The night’s sheet</Button>
          {data && (
            <Button
              look="accent"
              large
              disabled={!data.can_start || start.isPending || fill.isPlaceholderData}
              onClick={() => start.mutate(!data.has_devices)}
            >
              {data.start_label}
              {data.has_devices || !data.frames ? "" : " yourself"}
            </Button>
          )}
        </PageHead>
      </div>
      <div className="flex flex-col gap-3 pt-3 md:hidden">
        <h1 className="text-xl font-semibold">{data?.headline ?? "Fill the shelf"}</h1>
        {data && (
          <Button
            look="accent"
            large
            disabled={!data.can_start || start.isPending}
            onClick={() => start.mutate(!data.has_devices)}
          >
            {data.start_label}
          </Button>
        )}
        <Button onClick={onBack}>The night’s sheet</Button>
      </div>
      <div className="flex flex-wrap items-center justify-between gap-x-8 gap-y-2 border-y border-line py-2">
        <TimeThereIs choice={choice} change={change} data={data} />
        {data && <Totals data={data} />}
      </div>
      {start.error ? <Trouble error={start.error} /> : null}
      {fill.error ? <Trouble error={fill.error} onRetry={() => void fill.refetch()} /> : null}
      {!data && !fill.error && <Waiting what="Choosing what helps most" />}
      {data && !fill.error && (
        <>
          <NightBar data={data} />
          {data.over && (
            <p role="note" className="text-accent">
              {data.over}
            </p>
          )}
          <div className="grid grid-cols-[minmax(0,1fr)_336px] gap-8 max-md:grid-cols-1 md:min-h-0 md:flex-1">
            <div className="flex min-w-0 flex-col gap-4 md:min-h-0 md:overflow-y-auto">
              {data.walls.map((wall) => (
                <FillWall
                  key={wall.set_up}
                  wall={wall}
                  chosen={about}
                  onChoose={(one) => setAbout(one.key)}
                  onToggle={toggle}
                />
              ))}
              {data.bias.length > 0 && (
                <section aria-label="Bias">
                  <h2 className="narrow border-b border-ink pb-1 text-l font-semibold">Bias</h2>
                  <div className="flex flex-wrap gap-2 pt-2">
                    {data.bias.map((one) => (
                      <div key={one.key} className="w-56">
                        <span className="block truncate text-s text-ink2">
                          {one.title.replace("Bias, ", "")}
                        </span>
                        <Cell
                          cell={one}
                          chosen={about === one.key}
                          onChoose={() => setAbout(one.key)}
                          onToggle={() => toggle(one)}
                        />
                      </div>
                    ))}
                  </div>
                </section>
              )}
              {data.out_of_reach.length > 0 && (
                <ul aria-label="Asked for, and not to be shot now" className="border-t border-line">
                  <OutOfReach lines={data.out_of_reach} />
                </ul>
              )}
              <p className="text-ink2">
                {data.not_now}{" "}
                {changed && (
                  <Button look="link" onClick={asProposed}>
                    As proposed
                  </Button>
                )}{" "}
                <a className="underline" href={`/api/rigs/${rigId}/fill.csv?${address.toString()}`}>
                  CSV
                </a>
              </p>
            </div>
            <aside className="flex flex-col gap-4 md:min-h-0 md:overflow-y-auto">
              <About cell={cell} choice={choice} change={change} />
              <Ladder data={data} choice={choice} change={change} />
              <Before data={data} />
            </aside>
          </div>
        </>
      )}
    </div>
  );
}
