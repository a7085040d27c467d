import { scaleLinear, scaleLog } from "d3-scale";
import { useState, type ReactNode } from "react";
import { Link } from "react-router";

import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, ColumnHead, PageHead, Scroller, Trouble } from "../../parts/basics";
import { isOnSheet, putOnSheet, useHere } from "../../parts/context";
import { FilterStamp } from "../../parts/FilterStamp";
import { Ruler } from "../../parts/Ruler";
import { SmallSpine } from "../../parts/Spine";
import { DemoPace } from "./DemoPace";
import { GO_WORDS, type Go } from "../../parts/goes";
import { OutOfReach } from "./OutOfReach";
import { Ready } from "./Ready";
import { Reminders } from "./Reminders";
import { SensorAfterwards } from "./SensorAfterwards";
import { StartByHand } from "./StartByHand";
import { useStart } from "./useStart";
import { PhoneList } from "./PhoneList";
import { TimeLine } from "./TimeLine";
import { Label } from "../../parts/Label";
import { several } from "../../parts/several";

type TonightData = Schemas["TonightOut"];

/** Frames each: what a number costs in noise and in time, picked on a line. */
function FramesEach({ data }: { data: TonightData }) {
  const { setWishes } = useHere();
  const chosen = data.choices.find((c) => c.chosen) ?? null;
  const costs = data.choices.map((c) => c.cost ?? 0);
  const most = Math.max(...costs, 0.01);
  const x = scaleLog()
    .domain([data.choices[0]?.frames ?? 10, data.choices.at(-1)?.frames ?? 100])
    .range([70, 370]);
  const y = scaleLinear().domain([0, most]).range([118, 22]);
  const known = data.choices.every((c) => c.cost !== null);
  const digits = most < 0.5 ? 2 : 1;
  return (
    <section>
      <ColumnHead
        note={chosen?.cost != null ? `adds ${chosen.cost.toFixed(digits)} % noise to a stack` : undefined}
      >
        Frames each: {chosen?.frames ?? "as each row asks"}
      </ColumnHead>
      {data.cost_untold && (
        <p className="pt-1 pb-3 text-ink2">
          {data.cost_untold}
          {data.cost_told_at && (
            <>
              {" "}
              <Link to={data.cost_told_at} className="underline">
                Measure it
              </Link>
            </>
          )}
        </p>
      )}
      {known && (
        <svg
          viewBox="0 0 400 130"
          className="mt-1 block w-full"
          role="img"
          aria-label="Noise that the flats add, by their number"
        >
          <Label x="0" y="60">
            noise
          </Label>
          <path
            d={data.choices.map((c, i) => `${i ? "L" : "M"}${x(c.frames)} ${y(c.cost ?? 0)}`).join("")}
            fill="none"
            stroke="var(--ink)"
            strokeWidth="1.6"
          />
          {data.choices.map((c) => (
            <g key={c.frames}>
              <path
                d={`M${x(c.frames)} ${y(c.cost ?? 0)}V130`}
                stroke={c.chosen ? "var(--ink)" : "var(--line)"}
                strokeWidth={c.chosen ? 2 : 1}
              />
              <circle cx={x(c.frames)} cy={y(c.cost ?? 0)} r={c.chosen ? 4.5 : 2.5} fill="var(--ink)" />
              <Label
                x={x(c.frames) + (c === data.choices.at(-1) ? -18 : 6)}
                y={y(c.cost ?? 0) - 7}
                size={c.chosen ? 15 : 12}
                num
                strong={c.chosen}
                weight={c.chosen ? 500 : 400}
              >
                {(c.cost ?? 0).toFixed(digits)} %
              </Label>
            </g>
          ))}
        </svg>
      )}
      <div role="radiogroup" aria-label="Frames each" className="relative h-[54px]">
        {data.choices.map((c) => (
          <button
            key={c.frames}
            type="button"
            role="radio"
            aria-checked={c.chosen}
            aria-label={`${c.frames} frames each, hands free at ${c.done_at}`}
            onClick={() => setWishes((w) => ({ ...w, frames: c.frames }))}
            className={`num absolute flex w-14 -translate-x-1/2 flex-col items-center rounded-sm border px-1 py-0.5 ${c.chosen ? "border-ink bg-card text-l font-medium" : "border-transparent hover:border-rule"}`}
            style={{ left: `${(x(c.frames) / 400) * 100}%` }}
          >
            <span>{c.frames}</span>
            <span className="text-s font-normal text-ink2">{c.done_at}</span>
          </button>
        ))}
        <span className="absolute top-1.5 left-0 text-s leading-5 text-ink2">
          frames
          <br />
          free at
        </span>
      </div>
    </section>
  );
}

function OfferLine({ offer }: { offer: TonightData["offers"][number] }) {
  const { wishes, setWishes } = useHere();
  return (
    <li className="border-b border-line">
      <label className="grid cursor-pointer grid-cols-[18px_22px_1fr] items-center gap-x-2 py-1.5 hover:bg-card">
        <input
          type="checkbox"
          checked={isOnSheet(wishes, offer.key, offer.on_sheet)}
          onChange={(event) => setWishes((w) => putOnSheet(w, offer.key, event.target.checked))}
          className="h-4 w-4 accent-[var(--ink)]"
        />
        <SmallSpine gap={offer.hole} step={4} care={!offer.hole && !offer.more} />
        <span className="min-w-0">
          <span className="flex items-center gap-2 font-semibold">
            {offer.title}
            {offer.filter_code && <FilterStamp code={offer.filter_code} nm={offer.passband_nm} />}
          </span>
          {/* Why something is left off is read in full. */}
          <span
            className={`block text-s text-ink2 ${offer.on_sheet ? "md:truncate" : ""}`}
            title={`${offer.detail}; ${offer.note}`}
          >
            {offer.detail}; {offer.note}
          </span>
        </span>
      </label>
    </li>
  );
}

/** Where tonight's flats go, and when a run has to be over: chosen for tonight, else as the house rules have it. */
function WhereAndWhen({ data, children }: { data: TonightData; children: ReactNode }) {
  const { wishes, setWishes } = useHere();
  return (
    <div className="flex flex-wrap items-center gap-x-5 gap-y-2 pt-3">
      <label className="flex items-center gap-2">
        Flats go
        <select
          aria-label="Where tonight’s flats go"
          className={`h-8 rounded-sm border bg-card px-2 font-semibold max-md:h-11 ${data.go_by_rule ? "border-rule" : "border-ink"}`}
          value={wishes.go ?? data.go}
          onChange={(event) => {
            const go = event.target.value as Go;
            setWishes((before) => ({ ...before, go }));
          }}
        >
          {GO_WORDS.map(({ value, label }) => (
            <option key={value} value={value}>
              {label}
            </option>
          ))}
        </select>
      </label>
      {!data.go_by_rule && (
        <Button look="link" onClick={() => setWishes((before) => ({ ...before, go: undefined }))}>
          as your house rules
        </Button>
      )}
      {data.go_text && <span className="text-s text-ink2">{data.go_text}</span>}
      {data.steps.length > 0 && (
        <label className="flex items-center gap-2">
          not after
          <input
            aria-label="The run is over by"
            placeholder="05:30"
            value={wishes.until ?? ""}
            onChange={(event) => {
              const until = event.target.value;
              setWishes((before) => ({ ...before, until }));
            }}
            className="num h-8 w-20 rounded-sm border border-rule bg-card px-2 text-right max-md:h-11"
          />
        </label>
      )}
      {data.has_devices && data.steps.some((s) => s.kind === "darks") && (
        <SensorAfterwards
          then={wishes.sensor ?? "kept cold"}
          onChange={(sensor) => setWishes((before) => ({ ...before, sensor }))}
        />
      )}
      <span className="ml-auto max-md:ml-0">{children}</span>
    </div>
  );
}

function AskedFor({ data }: { data: TonightData }) {
  const asked = data.offers.filter((o) => !o.more || o.on_sheet);
  const more = data.offers.filter((o) => o.more && !o.on_sheet);
  const [open, setOpen] = useState(false);
  return (
    <section className="min-h-0">
      <ColumnHead
        note={data.waiting_lights ? `${several(data.waiting_lights, "light")} on the sheet` : undefined}
      >
        Asked for
      </ColumnHead>
      {data.shared && <p className="border-b border-line py-1.5 text-s text-ink2">{data.shared}</p>}
      {/* Where no line of time stands above it, it has the room. */}
      <ul
        className={`xl:overflow-auto ${data.steps.length > 0 ? "xl:max-h-[318px]" : "xl:max-h-[max(318px,calc(100dvh-310px))]"}`}
      >
        {asked.map((offer) => (
          <OfferLine key={offer.key} offer={offer} />
        ))}
        {asked.length === 0 && (
          <li className="py-3 text-ink2">No lights wait for anything that could be shot now.</li>
        )}
        <OutOfReach lines={data.out_of_reach} indent="pl-[26px]" />
        {more.length > 0 && (
          <li className="py-1.5">
            <Button look="link" aria-expanded={open} onClick={() => setOpen((o) => !o)}>
              {open ? "Only what is asked for" : "More flats, of any filter"}
            </Button>
          </li>
        )}
        {open && more.map((offer) => <OfferLine key={offer.key} offer={offer} />)}
      </ul>
    </section>
  );
}

function ReadyAndCovered({ data }: { data: TonightData }) {
  const again = useChange(() =>
    get(api.POST("/api/rigs/{rig_id}/runs/again", { params: { path: { rig_id: data.rig_id } } })),
  );
  return (
    <section className="flex min-h-0 flex-col gap-4 max-xl:col-span-full max-xl:grid max-xl:grid-cols-2 max-xl:gap-8 max-md:grid-cols-1 max-md:gap-4">
      <div>
        <ColumnHead>Before you start</ColumnHead>
        <ul>
          <Ready lines={data.ready} />
        </ul>
        {data.again && data.has_devices && (
          <p className="pt-1.5">
            <Button
              look="link"
              disabled={again.isPending}
              onClick={() => again.mutate(undefined as never)}
              title="at the settings that were found then"
            >
              The last run again: {data.again}
            </Button>
          </p>
        )}
        <Reminders data={data} />
        {again.error ? <Trouble error={again.error} /> : null}
      </div>
      <div>
        <ColumnHead note={data.covered_lights ? undefined : ""}>The shelf already covers</ColumnHead>
        <Scroller name="What the shelf covers" className="max-h-[132px]">
          <ul>
            {data.covered.map((c) => (
              <li
                key={c.holding_id}
                className="grid grid-cols-[18px_1fr_auto] items-center gap-2 border-b border-line py-1"
              >
                <SmallSpine step={c.age_step} />
                <span>
                  {c.title} <span className="text-s text-ink2">{several(c.lights, "light")}</span>
                </span>
                {c.ruler && <Ruler ruler={c.ruler} width={64} />}
              </li>
            ))}
            {data.covered.length === 0 && (
              <li className="py-2 text-ink2">Nothing yet for tonight’s lights.</li>
            )}
          </ul>
        </Scroller>
      </div>
    </section>
  );
}

/** Tonight before a run: the sheet, what it costs, what is ready. */
export function Sheet({
  data,
  onFill,
  onBefore,
}: {
  data: TonightData;
  onFill: () => void;
  onBefore: () => void;
}) {
  const [byHand, setByHand] = useState(false);
  const start = useStart(data.rig_id);
  const stopping = data.ready.find((r) => r.stops);
  const label = data.start_label;
  const go = (
    <Button
      look="accent"
      large
      disabled={!data.can_start || start.isPending}
      onClick={() => start.mutate({ hand: false, folder: null })}
      title={stopping?.text}
    >
      {label}
    </Button>
  );
  return (
    <div className="flex flex-col px-6 pb-4 max-md:px-4 xl:h-full">
      {/* On a phone the list of steps has its own head. */}
      <div className={data.steps.length > 0 ? "max-md:hidden" : ""}>
        <PageHead title={data.headline}>
          <DemoPace />
          <span className="num whitespace-nowrap text-ink2">now {data.clock}</span>
          <Button onClick={onBefore}>Before the night</Button>
          <Button onClick={onFill}>Fill the shelf</Button>
          {data.steps.length > 0 && data.has_devices && go}
        </PageHead>
      </div>
      {start.error ? <Trouble error={start.error} /> : null}
      {stopping && data.steps.length > 0 && (
        <p className="pb-2 text-accent" role="note">
          {stopping.what}: {stopping.text}.
        </p>
      )}
      {data.steps.length > 0 ? (
        <>
          <div className="pt-2 max-md:hidden">
            <TimeLine steps={data.steps} current={null} />
          </div>
          <PhoneList
            headline={data.headline}
            sub={`It is ${data.clock}.`}
            steps={data.steps}
            current={null}
            action={data.has_devices ? go : null}
          />
          <p className="flex gap-2 pt-3 md:hidden">
            <Button onClick={onBefore}>Before the night</Button>
            <Button onClick={onFill}>Fill the shelf</Button>
          </p>
          {(!data.has_devices || byHand) && <StartByHand data={data} />}
        </>
      ) : (
        <p className="border-b-[3px] border-ink bg-card px-6 py-10 text-l text-ink2">{data.empty_text}</p>
      )}
      <WhereAndWhen data={data}>
        {data.steps.length > 0 && data.has_devices && !byHand && (
          <Button look="link" onClick={() => setByHand(true)}>
            Shoot it with another program instead
          </Button>
        )}
      </WhereAndWhen>
      <div className="grid auto-cols-fr grid-flow-col gap-8 pt-5 max-xl:grid-flow-row max-xl:grid-cols-2 max-md:grid-cols-1 xl:min-h-0 xl:flex-1">
        {data.choices.length > 0 && <FramesEach data={data} />}
        <AskedFor data={data} />
        <ReadyAndCovered data={data} />
      </div>
    </div>
  );
}
