import { useState } from "react";

import { api, get } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, ColumnHead, PageHead, Trouble, Waiting } from "../../parts/basics";
import { FilterStamp } from "../../parts/FilterStamp";
import { SaveLinks } from "../../parts/SaveLinks";
import { PlanHead, PlanTargets } from "./PlanCard";
import { PlanPrice } from "./PlanPrice";
import {
  useDrafts,
  usePlans,
  usePrices,
  type Draft,
  type Drafts,
  type PlansData,
  type Priced,
} from "./useBefore";

type Kept = PlansData["kept"][number];

/** Keeps a plan, for a night or for any. */
function KeepIt({ rig, draft, tonight }: { rig: number; draft: Draft; tonight: string }) {
  const [night, setNight] = useState(tonight);
  const keep = useChange((body: { name: string; night: string | null }) =>
    get(
      api.POST("/api/rigs/{rig_id}/plans", {
        params: { path: { rig_id: rig } },
        body: { ...body, plan: draft.plan },
      }),
    ),
  );
  return (
    <form
      className="flex flex-wrap items-center gap-2 pt-3"
      onSubmit={(event) => {
        event.preventDefault();
        keep.mutate({ name: draft.name, night: night || null });
      }}
    >
      <Button type="submit" disabled={keep.isPending || !draft.name.trim()}>
        Keep “{draft.name || "…"}”
      </Button>
      <label className="flex items-center gap-2 text-ink2">
        for the night of
        <input
          type="date"
          aria-label="Night of the plan"
          value={night}
          onChange={(event) => setNight(event.target.value)}
          className="num h-8 rounded-sm border border-rule bg-card px-2 text-ink max-md:h-11"
        />
      </label>
      {keep.isSuccess && !keep.isPending && (
        <span role="status" className="text-s text-ink2">
          Kept.
        </span>
      )}
      {keep.error ? <Trouble error={keep.error} /> : null}
    </form>
  );
}

/** What the night of a plan really had. */
function Had({ had }: { had: NonNullable<Kept["had"]> }) {
  return (
    <div className="pt-1 text-s">
      <p>{had.summary}.</p>
      <ul className="flex flex-wrap gap-x-4 gap-y-1 py-1">
        {had.lights.map((one) => (
          <li key={one.target + one.filter_code} className="flex items-center gap-1.5">
            <span className="text-ink2">{one.target}</span>
            <FilterStamp code={one.filter_code} nm={one.passband_nm} />
            <span className={`num ${one.taken < one.planned ? "text-accent" : ""}`}>
              {one.taken} of {one.planned}
            </span>
          </li>
        ))}
      </ul>
      <p className="text-ink2">{had.flats}.</p>
      {had.time && <p className="text-ink2">{had.time}.</p>}
    </div>
  );
}

/** Plans that were kept, and what their nights had. */
function KeptPlans({ rig, kept, onUse }: { rig: number; kept: Kept[]; onUse: (draft: Draft) => void }) {
  const away = useChange((id: number) =>
    get(api.DELETE("/api/rigs/{rig_id}/plans/{plan_id}", { params: { path: { rig_id: rig, plan_id: id } } })),
  );
  const back = useChange((one: Kept) =>
    get(
      api.POST("/api/rigs/{rig_id}/plans", {
        params: { path: { rig_id: rig } },
        body: { name: one.name, night: one.night, plan: one.plan },
      }),
    ),
  );
  const [gone, setGone] = useState<Kept | null>(null);
  if (kept.length === 0 && !gone) return null;
  return (
    <section className="pt-6">
      <ColumnHead
        note={<SaveLinks name="plans" files={[{ label: "CSV", href: `/api/rigs/${rig}/plans.csv` }]} />}
      >
        Kept plans
      </ColumnHead>
      <ul>
        {kept.map((one) => (
          <li key={one.id} className="border-b border-line py-2">
            <div className="flex flex-wrap items-baseline gap-x-3">
              <span className="text-l font-semibold">{one.name}</span>
              <span className="num">{one.night_text}</span>
              <span className="text-s text-ink2">foretold {one.foretold}</span>
              <span className="ml-auto flex gap-2">
                <Button look="link" onClick={() => onUse({ name: one.name, plan: one.plan })}>
                  Look at it again
                </Button>
                <Button
                  look="link"
                  disabled={away.isPending}
                  onClick={() => {
                    setGone(one);
                    away.mutate(one.id);
                  }}
                >
                  Throw away
                </Button>
              </span>
            </div>
            {one.had ? <Had had={one.had} /> : <p className="text-s text-ink2">Still to come.</p>}
          </li>
        ))}
      </ul>
      {gone && away.isSuccess && (
        <p role="status" className="pt-2 text-s text-ink2">
          “{gone.name}” is thrown away.{" "}
          <Button
            look="link"
            disabled={back.isPending}
            onClick={() => {
              back.mutate(gone);
              setGone(null);
            }}
          >
            Take it back
          </Button>
        </p>
      )}
      {away.error ? <Trouble error={away.error} /> : null}
      {back.error ? <Trouble error={back.error} /> : null}
    </section>
  );
}

/** One plan with what it costs. */
function PlanColumn({
  rig,
  data,
  draft,
  price,
  wrong,
  longest,
  alone,
  onChange,
  onAway,
  onBeside,
}: {
  rig: number;
  data: PlansData;
  draft: Draft;
  price: Priced | null;
  wrong: string;
  longest: number;
  /** No other plan is beside it. */
  alone: boolean;
  onChange: (next: Draft) => void;
  onAway: () => void;
  onBeside: () => void;
}) {
  const setPlan = (plan: Draft["plan"]) => onChange({ ...draft, plan });
  return (
    <section aria-label={draft.name} className="min-w-0 border-t-[3px] border-ink pt-2">
      <div className="flex items-center gap-2 pb-2">
        <input
          aria-label="Name of the plan"
          value={draft.name}
          maxLength={80}
          onChange={(event) => onChange({ ...draft, name: event.target.value })}
          className="h-9 min-w-0 flex-1 rounded-sm border border-transparent bg-transparent px-1 text-l font-semibold hover:border-line focus:border-rule max-md:h-11"
        />
        {alone ? (
          <Button look="link" onClick={onBeside}>
            Another beside it
          </Button>
        ) : (
          <Button look="link" onClick={onAway} aria-label={`Close ${draft.name}`}>
            Close it
          </Button>
        )}
      </div>
      <PlanHead plan={draft.plan} filters={data.filters} onChange={setPlan} />
      {wrong && (
        <p role="alert" className="border-l-4 border-accent pl-2.5">
          {wrong}
        </p>
      )}
      {!wrong && (price ? <PlanPrice price={price} longest={longest} /> : <Waiting what="Pricing it" />)}
      <PlanTargets plan={draft.plan} filters={data.filters} gainWord={data.gain_word} onChange={setPlan} />
      <KeepIt rig={rig} draft={draft} tonight={data.tonight} />
    </section>
  );
}

/** A night before it begins: one plan, or two side by side, and what each costs. */
export function Before({ rigId, onBack }: { rigId: number; onBack: () => void }) {
  const plans = usePlans(rigId);
  const { drafts, typed, change } = useDrafts(rigId, plans.data);
  const prices = usePrices(rigId, drafts);
  const data = plans.data;
  if (!data)
    return plans.error ? (
      <div className="p-6">
        <Trouble error={plans.error} onRetry={() => void plans.refetch()} />
      </div>
    ) : (
      <Waiting what="Looking at your nights" />
    );
  const put = (index: number, next: Draft) =>
    change((drafts ?? []).map((d, i) => (i === index ? next : d)) as Drafts);
  const longest = Math.max(...(prices.data?.prices ?? []).map((p) => p?.seconds ?? 0), 1);
  const first = drafts?.[0];
  const title = prices.data?.difference || "What the night will cost in flats";
  return (
    <div className="px-6 pb-6 max-md:px-4">
      <PageHead title={data.can_plan ? title : "Before the night"}>
        {typed && <Button onClick={() => change(null)}>Begin anew, {data.last_text}</Button>}
        <Button onClick={onBack}>Tonight’s sheet</Button>
      </PageHead>
      {!data.can_plan && (
        <p className="border-b-[3px] border-ink bg-card px-6 py-10 text-l text-ink2">{data.cannot}</p>
      )}
      {prices.error ? <Trouble error={prices.error} onRetry={() => void prices.refetch()} /> : null}
      {drafts && first && (
        <div
          className={`grid gap-8 ${drafts.length > 1 ? "grid-cols-2" : "grid-cols-[minmax(0,1fr)_minmax(0,1fr)]"} max-lg:grid-cols-1`}
        >
          {drafts.map((draft, index) => (
            <PlanColumn
              key={index}
              rig={rigId}
              data={data}
              draft={draft}
              price={prices.data?.prices[index] ?? null}
              wrong={prices.data?.wrong[index] ?? ""}
              longest={longest}
              alone={drafts.length === 1}
              onChange={(next) => put(index, next)}
              onAway={() => change([drafts[index === 0 ? 1 : 0] ?? draft])}
              onBeside={() => change([draft, { name: `${draft.name}, otherwise`, plan: draft.plan }])}
            />
          ))}
        </div>
      )}
      <KeptPlans
        rig={rigId}
        kept={data.kept}
        onUse={(draft) => {
          const beside = drafts?.[1];
          change(beside ? [draft, beside] : [draft]);
        }}
      />
    </div>
  );
}
