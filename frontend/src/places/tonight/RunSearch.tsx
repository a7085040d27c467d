import { type Schemas } from "../../api/client";
import { Bar, ColumnHead } from "../../parts/basics";
import { FilterStamp } from "../../parts/FilterStamp";
import { Picture } from "../../parts/FrameView";
import { Ruler } from "../../parts/Ruler";
import { ExposureChart } from "./ExposureChart";

type Search = Schemas["SearchOut"];

function Shots({ search }: { search: Search }) {
  return (
    <ol className="max-h-[224px] overflow-auto">
      {search.shots.map((shot) => (
        <li key={shot.number} className="border-b border-line py-1.5">
          <span className="grid grid-cols-[22px_64px_96px_1fr] items-center gap-2">
            <span className="num inline-flex h-5 w-5 items-center justify-center rounded-full border border-ink text-s">
              {shot.number}
            </span>
            <span className="num text-right">{shot.exposure}</span>
            <span className="num text-right text-s">{shot.level_text}</span>
            <Ruler ruler={shot.ruler} width={72} />
          </span>
          <span className="block pl-[30px] text-s text-ink2">
            {shot.probe ? "Probe, never a setting: " : ""}
            {shot.why}
          </span>
        </li>
      ))}
      {search.shots.length === 0 && <li className="py-2 text-ink2">The first shot is on its way.</li>}
    </ol>
  );
}

/** A search that goes on, or was done: chart, picture, shots, the next one and why. */
export function SearchView({ search }: { search: Search }) {
  const last = search.shots.at(-1);
  return (
    <>
      <section>
        <ColumnHead
          note={`gain ${search.gain}${search.brightness !== null ? `, panel at ${search.brightness}` : ""}`}
        >
          <span className="flex items-center gap-2">
            <FilterStamp code={search.filter_code} nm={search.passband_nm} />
            {search.found
              ? `${search.found} in ${search.shots.length} ${search.shots.length === 1 ? "shot" : "shots"}`
              : search.no_answer
                ? "No exposure reaches the target"
                : "Finding the exposure"}
          </span>
        </ColumnHead>
        <div className="mt-2 bg-card p-1">
          <ExposureChart search={search} />
        </div>
      </section>
      <section>
        <ColumnHead>Test shots</ColumnHead>
        <Shots search={search} />
        {search.next && <p className="pt-2 font-semibold">{search.next}</p>}
        {search.no_answer && (
          <p className="mt-2 border-l-4 border-accent pl-3">
            {search.no_answer} <b className="font-semibold">{search.advice}</b>
          </p>
        )}
      </section>
      <section>
        <ColumnHead>{last ? `Shot ${last.number}` : "Picture"}</ColumnHead>
        {last && (
          <div className="mt-2">
            <Picture src={last.picture} alt={`Shot ${last.number}, ${last.exposure}`} />
          </div>
        )}
      </section>
    </>
  );
}

export function SeriesView({ series, search }: { series: Schemas["SeriesOut"]; search: Search | null }) {
  return (
    <>
      <section>
        <ColumnHead note={`${series.done} of ${series.count}`}>{series.title}</ColumnHead>
        <div className="py-3">
          <Bar share={series.done / Math.max(series.count, 1)} label={series.title} />
        </div>
        {series.last && (
          <div className="flex items-center gap-4">
            <span className="num text-xxl">{series.last.level_text}</span>
            <Ruler ruler={series.last.ruler} />
          </div>
        )}
        {series.last && (
          <p className="text-ink2">
            {series.statistic} of frame {series.last.number}, {series.last.exposure}
          </p>
        )}
        {series.last?.why && <p className="mt-2 border-l-4 border-accent pl-3">{series.last.why}</p>}
      </section>
      <section>
        {search ? (
          <>
            <ColumnHead note={`${search.found ?? ""}`}>How its exposure was found</ColumnHead>
            <Shots search={search} />
          </>
        ) : null}
      </section>
      <section>
        <ColumnHead>{series.last ? `Frame ${series.last.number}` : "Picture"}</ColumnHead>
        {series.last && (
          <div className="mt-2">
            <Picture src={series.last.picture} alt={`Frame ${series.last.number}`} />
          </div>
        )}
      </section>
    </>
  );
}
