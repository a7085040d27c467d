import { useState } from "react";
import type { UseQueryResult } from "@tanstack/react-query";

import { asked, type Problem, type Schemas } from "../../api/client";
import { Bar, Trouble } from "../../parts/basics";
import type { Circle } from "../../parts/viewer/Marks";

export type Dust = Schemas["DustOut"];
type Shadow = Dust["shadows"][number];

/** The dust on a flat. Where other flats are still to be looked at, it is asked again until all are, or it is stopped. */
export function useDust(setId: number, wanted: boolean) {
  const [stopped, stop] = useState(false);
  const dust = asked.useQuery(
    "get",
    "/api/holdings/{set_id}/dust",
    { params: { path: { set_id: setId } } },
    {
      enabled: wanted,
      retry: false,
      refetchInterval: (query) => (!stopped && (query.state.data?.left ?? 0) > 0 ? 250 : false),
    },
  ) as UseQueryResult<Dust, Problem>;
  return { dust, stopped, stop: () => stop(true), goOn: () => stop(false) };
}

/** The shadows as circles on the picture of their flat. */
export const circlesOf = (dust: Dust | undefined, chosen: number | null): Circle[] =>
  (dust?.shadows ?? []).map((s) => ({
    x: s.x,
    y: s.y,
    diameter: s.diameter,
    label: String(s.number),
    chosen: s.number === chosen,
  }));

function Row({
  shadow,
  chosen,
  onChoose,
}: {
  shadow: Shadow;
  chosen: boolean;
  onChoose: (number: number | null) => void;
}) {
  return (
    <tr
      className={`border-b border-line align-baseline last:border-b-0 ${chosen ? "bg-board" : ""}`}
      onMouseEnter={() => onChoose(shadow.number)}
      onMouseLeave={() => onChoose(null)}
    >
      <td className="num py-1 pr-2 text-right">
        <button
          type="button"
          aria-label={`Shadow ${shadow.number} on the picture`}
          onFocus={() => onChoose(shadow.number)}
          onBlur={() => onChoose(null)}
        >
          {shadow.number}
        </button>
      </td>
      <td className="num pr-2 text-right whitespace-nowrap">{shadow.depth_text} %</td>
      <td className="num pr-2 text-right whitespace-nowrap">{Math.round(shadow.diameter)} px</td>
      <td className="num pr-3 text-right whitespace-nowrap">{shadow.distance_text}</td>
      <td className="py-1">
        {shadow.surface}
        <span className="block text-s text-ink2">
          {[shadow.why, shadow.since].filter(Boolean).join("; ")}
        </span>
      </td>
    </tr>
  );
}

/** Each shadow: how deep, how wide, how far in front of the sensor, and on which surface. */
export function Shadows({
  dust,
  most,
  chosen,
  onChoose,
}: {
  dust: Dust;
  /** So many are told; the deepest come first. */
  most: number;
  chosen: number | null;
  onChoose: (number: number | null) => void;
}) {
  const shown = dust.shadows.slice(0, most);
  if (shown.length === 0) return null;
  return (
    <table className="w-full">
      <thead className="narrow text-s text-ink2">
        <tr>
          <th className="w-6" />
          <th className="pr-2 text-right font-normal">depth</th>
          <th className="pr-2 text-right font-normal">width</th>
          <th className="pr-3 text-right font-normal">{dust.no_distance ? "" : "distance"}</th>
          <th className="text-left font-normal">where the speck is</th>
        </tr>
      </thead>
      <tbody>
        {shown.map((s) => (
          <Row key={s.number} shadow={s} chosen={s.number === chosen} onChoose={onChoose} />
        ))}
      </tbody>
    </table>
  );
}

/** The same beside the picture, where there is little room: one below the other. */
export function ShadowList({
  dust,
  chosen,
  onChoose,
}: {
  dust: Dust;
  chosen: number | null;
  onChoose: (number: number | null) => void;
}) {
  return (
    <ul>
      {dust.shadows.map((s) => (
        <li
          key={s.number}
          className={`border-b border-line py-1.5 last:border-b-0 ${s.number === chosen ? "bg-board" : ""}`}
          onMouseEnter={() => onChoose(s.number)}
          onMouseLeave={() => onChoose(null)}
        >
          <button
            type="button"
            className="num flex w-full gap-3 text-left"
            aria-label={`Shadow ${s.number} on the picture`}
            onFocus={() => onChoose(s.number)}
            onBlur={() => onChoose(null)}
          >
            <b className="w-5 font-medium">{s.number}</b>
            <span>{s.depth_text} %</span>
            <span>{Math.round(s.diameter)} px</span>
            <span>{s.distance_text}</span>
          </button>
          <p>
            {s.surface}{" "}
            <span className="text-s text-ink2">{[s.why, s.since].filter(Boolean).join("; ")}</span>
          </p>
        </li>
      ))}
    </ul>
  );
}

/** The dust of a flat on its card: what to do about it, and each shadow. */
export function DustOnCard({
  looked,
  chosen,
  onChoose,
  onShow,
}: {
  looked: ReturnType<typeof useDust>;
  chosen: number | null;
  onChoose: (number: number | null) => void;
  onShow: () => void;
}) {
  const { dust, stopped, stop, goOn } = looked;
  const data = dust.data;
  return (
    <section className="border-t border-line pt-3" data-part="dust">
      <div className="flex items-baseline justify-between gap-3">
        <h3 className="narrow font-semibold">
          Dust
          {data &&
            data.shadows.length > 0 &&
            `: ${data.shadows.length} ${data.shadows.length === 1 ? "shadow" : "shadows"}`}
        </h3>
        {data && data.shadows.length > 0 && (
          <span className="flex gap-3 text-s text-ink2">
            <button type="button" className="underline" onClick={onShow}>
              See them on the picture
            </button>
            <a className="underline" href={`/api/holdings/${data.set_id}/dust.csv`}>
              CSV
            </a>
          </span>
        )}
      </div>
      {dust.error ? <Trouble error={dust.error} onRetry={() => void dust.refetch()} /> : null}
      {!data && !dust.error && <p className="text-ink2">Looking for shadows…</p>}
      {data && (
        <>
          <p>
            {data.advice} {data.steady}
          </p>
          <Shadows dust={data} most={6} chosen={chosen} onChoose={onChoose} />
          {data.shadows.length > 6 && (
            <p className="text-s text-ink2">{data.shadows.length - 6} more, fainter, on the picture.</p>
          )}
          {data.no_distance && data.shadows.length > 0 && (
            <p className="text-s text-ink2">{data.no_distance}</p>
          )}
          {data.left > 0 && (
            <div className="mt-1 flex items-center gap-3 text-s text-ink2">
              <span className="w-40">
                <Bar share={data.flats / (data.flats + data.left)} label="Flats that were looked at" />
              </span>
              {stopped
                ? `${data.left} other flats were not looked at.`
                : `Looking at other flats: ${data.flats} of ${data.flats + data.left}`}
              <button type="button" className="underline" onClick={stopped ? goOn : stop}>
                {stopped ? "Go on" : "Stop"}
              </button>
            </div>
          )}
        </>
      )}
    </section>
  );
}
