import { useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";

import { api, get } from "../../../api/client";
import { useChange, useFlatChart, useFlats } from "../../../api/hooks";
import { ColumnHead, HeadChoice, PageHead, Segments, Trouble, Waiting } from "../../../parts/basics";
import { FilterStamp } from "../../../parts/FilterStamp";
import { SaveLinks } from "../../../parts/SaveLinks";
import { TakeBack } from "../../../parts/TakeBack";
import { stepped, useStepKeys } from "../../../parts/useStepKeys";
import { ToSlip } from "../../../parts/ToSlip";
import { KINDS, type BenchPage } from "../kinds";
import { filterName } from "../../../parts/filterName";
import { Going } from "./Going";
import { keyText, sameKey, type Key, type Row } from "./keys";
import { Light } from "./Light";
import { LightChart } from "./LightChart";
import { Rows } from "./Rows";
import { Twilight } from "./Twilight";
import { WholeSheet } from "./WholeSheet";
import { StartSearch } from "./StartSearch";

type View = "chart" | "sheet" | "light" | "sky";

const VIEWS: { value: View; label: string }[] = [
  { value: "chart", label: "Searches" },
  { value: "sheet", label: "Whole sheet" },
  { value: "light", label: "Light" },
  { value: "sky", label: "Twilight" },
];

/** What was found for a row before, and the ways back to it. */
function History({ row, rig }: { row: Row; rig: number }) {
  const act = useChange(({ id, what }: { id: number; what: "take-back" | "use" }) =>
    get(
      api.POST("/api/rigs/{rig_id}/flats/settings/{setting_id}/{what}", {
        params: { path: { rig_id: rig, setting_id: id, what } },
      }),
    ),
  );
  if (row.history.length === 0) return null;
  return (
    <section>
      <ColumnHead note="the newest is used">Found for {filterName(row.key.filter_code)}</ColumnHead>
      <ul>
        {row.history.map((item) => (
          <li key={item.id} className="flex items-baseline gap-3 border-b border-line py-1">
            <span className={`num whitespace-nowrap ${item.counts ? "font-semibold" : "text-ink2"}`}>
              {item.text}
            </span>
            <span className="flex-1 text-s text-ink2">
              {item.expected}, {item.when}, {item.shots}
              {item.diffusers && `, behind ${item.diffusers}`}
              {item.taken_back && ", taken back"}
            </span>
            <TakeBack
              what={item.text}
              taken={item.taken_back}
              onClick={() => act.mutate({ id: item.id, what: item.taken_back ? "use" : "take-back" })}
            />
          </li>
        ))}
      </ul>
      {act.error && <Trouble error={act.error} />}
    </section>
  );
}

/** How a search goes, where none was done yet. */
const STEPS = [
  [
    "The light before the telescope",
    "A panel, a wall; with the rig, or your own camera program and a watched folder.",
  ],
  [
    "One test shot, then usually one more",
    "From the first the setting follows by proportion above the pedestal.",
  ],
  [
    "Kept for every filter, binning and gain",
    "Tonight shoots with it; where nothing that is permitted does, it says by how many stops and what to hang.",
  ],
] as const;

/** The card with the search of one row. */
function SearchCard({ row, rig }: { row: Row; rig: number }) {
  const svg = useRef<SVGSVGElement>(null);
  const [shot, setShot] = useState<number | null>(null);
  const chart = useFlatChart(rig, row.key);
  const data = chart.data && sameKey(chart.data.key, row.key) ? chart.data : null;
  const told = data?.shots.find((s) => s.number === shot);
  const k = row.key;
  const query = `filter_code=${encodeURIComponent(k.filter_code)}&gain=${k.gain}&offset=${k.offset}&binning=${k.binning}`;
  return (
    <section className="border border-line bg-card px-5 pt-3 pb-2 max-md:px-3">
      <div className="flex items-center gap-3 max-md:flex-wrap">
        <FilterStamp code={k.filter_code} nm={row.passband_nm} />
        <h2 className="text-xxl font-semibold whitespace-nowrap" style={{ fontStretch: "88%" }}>
          {data?.title ?? "…"}
        </h2>
        <p className="text-s text-ink2">{data?.under}</p>
      </div>
      {chart.error && <Trouble error={chart.error} />}
      {data && data.shots.length > 0 ? (
        <>
          <LightChart data={data} chosen={shot} onChoose={setShot} chart={svg} />
          <div className="flex items-baseline justify-between gap-4 pt-0.5">
            <p className="min-h-5 text-s text-ink2">
              {told ? `${told.number}: ${told.text}. Why: ${told.why}.` : data.next}
            </p>
            <SaveLinks
              chart={svg}
              name={`flat-${k.filter_code}-gain-${k.gain}-bin-${k.binning}`}
              files={[{ label: "CSV", href: `/api/rigs/${rig}/flats/shots.csv?${query}` }]}
            />
          </div>
        </>
      ) : (
        data && (
          <div className="flex min-h-[480px] flex-col justify-center px-6 max-md:min-h-0 max-md:py-6">
            {data.next ? (
              <p className="text-l">{data.next}</p>
            ) : (
              <ol className="flex flex-col gap-4">
                {STEPS.map(([head, text], i) => (
                  <li key={head} className="grid grid-cols-[40px_1fr] items-baseline">
                    <span className="num text-xl">{i + 1}</span>
                    <span>
                      <b className="block text-l font-semibold">{head}</b>
                      <span className="text-ink2">{text}</span>
                    </span>
                  </li>
                ))}
              </ol>
            )}
          </div>
        )
      )}
    </section>
  );
}

/** Flat exposure and panel brightness of the whole rig. */
export function FlatSheet({ rig }: { rig: number }) {
  const navigate = useNavigate();
  const [query, setQuery] = useSearchParams();
  const sheet = useFlats(rig);
  const [chosen, setChosen] = useState<Set<string>>(new Set());
  const [measuring, setMeasuring] = useState(false);
  const data = sheet.data;
  const view = (VIEWS.find((v) => v.value === query.get("view"))?.value ?? "chart") satisfies View;
  const asked = query.get("row");
  const rows = data?.rows ?? [];
  const live = data?.job?.can_stop ? data.searching : null;
  const row =
    rows.find((r) => keyText(r.key) === asked) ??
    rows.find((r) => live && sameKey(r.key, live)) ??
    rows.find((r) => r.state === "no answer") ??
    rows.find((r) => r.state === "found") ??
    rows[0];
  const change = (changes: Record<string, string | null>) => {
    const next = new URLSearchParams(query);
    for (const [name, value] of Object.entries(changes))
      if (value === null) next.delete(name);
      else next.set(name, value);
    setQuery(next, { replace: true });
  };
  const look = (key: Key) => change({ row: live && sameKey(live, key) ? null : keyText(key), view: null });
  useStepKeys((by) => {
    const at = rows.findIndex((r) => r === row);
    const next = stepped(rows, at, by);
    if (next) look(next.key);
  });
  const picked = rows.filter((r) => chosen.has(keyText(r.key)));
  const busy = data?.job?.can_stop === true;
  const going = data && data.job && <Going data={data} rig={rig} next="" />;
  return (
    <div className="mx-auto max-w-[1280px] px-6 pt-2.5 pb-6 max-md:px-4">
      <PageHead
        title={
          <>
            <span className="max-md:hidden">
              <HeadChoice<BenchPage>
                options={[...KINDS]}
                value="flats"
                onChange={(value) => void navigate(`/bench/${value}`)}
              />
            </span>
            <span className="sr-only md:hidden">Flat exposure</span>
          </>
        }
      >
        <span className="text-ink2 max-lg:hidden">
          {data && view !== "sky" ? `${data.source}, ${busy ? data.job?.title : data.headline}` : ""}
        </span>
        <Segments
          label="View"
          value={view}
          options={VIEWS}
          onChange={(value) => change({ view: value === "chart" ? null : value })}
        />
      </PageHead>
      {sheet.error && !data && <Trouble error={sheet.error} onRetry={() => void sheet.refetch()} />}
      {!data && !sheet.error && <Waiting what="Reading the sheet" />}
      {data && view === "sky" && <Twilight rig={rig} />}
      {data && (view === "sheet" || view === "light") && (
        <div className="flex flex-col gap-5">
          {going}
          {view === "sheet" && (
            <>
              <WholeSheet data={data} rig={rig} chosen={chosen} setChosen={setChosen} onLook={look} />
              {!busy && data.rows.length > 0 && (
                <StartSearch data={data} rig={rig} picked={picked} response={false} />
              )}
            </>
          )}
          {view === "light" && (
            <>
              {measuring && !busy && (
                <StartSearch
                  data={data}
                  rig={rig}
                  picked={[]}
                  response
                  onCancel={() => setMeasuring(false)}
                />
              )}
              <Light data={data} rig={rig} onMeasure={() => setMeasuring(true)} />
            </>
          )}
        </div>
      )}
      {data && view === "chart" && (
        <div className="grid grid-cols-[minmax(0,776px)_minmax(400px,1fr)] items-start gap-6 max-lg:grid-cols-1">
          {row ? (
            <div className="max-md:order-2 lg:sticky lg:top-2">
              <SearchCard row={row} rig={rig} />
            </div>
          ) : (
            <section className="border border-line bg-card px-8 py-10">
              <h2 className="pb-2 text-xl font-semibold">Nothing on the sheet yet</h2>
              {data.untold && (
                <p className="max-w-[56ch] pb-2">
                  {data.untold.text} <ToSlip slip={data.untold.slip}>Say it on their slip</ToSlip>
                </p>
              )}
              <p className="max-w-[56ch]">
                Rows come from the gains, offsets and binnings that the rig’s lights use.{" "}
                {data.untold
                  ? "They can also be put on the whole sheet by hand."
                  : "Scan lights in Intake, or put a row on the whole sheet by hand."}
              </p>
            </section>
          )}
          <div className="flex flex-col gap-4">
            {going}
            {rows.length > 0 && <Rows rows={rows} rig={rig} chosen={row?.key ?? null} onChoose={look} />}
            {data.shared.map((item) => (
              <p key={item.text} className="border-l-4 border-rule pl-3">
                {item.text}
                {item.saved && <span className="block text-s text-ink2">{item.saved}</span>}
              </p>
            ))}
            {!busy && rows.length > 0 && (
              // However many rows there are, the way to begin stays in sight.
              <div className="bg-paper pb-2 lg:sticky lg:bottom-0 lg:z-10">
                <StartSearch data={data} rig={rig} picked={picked} one={row} response={false} />
              </div>
            )}
            {row && <History row={row} rig={rig} />}
          </div>
        </div>
      )}
    </div>
  );
}
