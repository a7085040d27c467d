import type { Schemas } from "../../api/client";
import { useHere } from "../../parts/context";
import { FilterStamp } from "../../parts/FilterStamp";
import { several } from "../../parts/several";

export type Night = Schemas["NightOut"];
export type LightSet = Schemas["LightSetOut"];

/** A name is left out of a block that is too narrow for it: cut off it tells nothing. */
function roomFor(stamp: string): string {
  if (stamp.length > 8) return "@max-[120px]:hidden";
  if (stamp.length > 4) return "@max-[56px]:hidden";
  return stamp.length > 2 ? "@max-[40px]:hidden" : "@max-[26px]:hidden";
}

/** The night as a line: its hours, the sets of lights on it, and the air above. */
export function Timeline({
  night,
  chosen,
  onChoose,
}: {
  night: Night;
  chosen: number | null;
  onChoose: (id: number) => void;
}) {
  const { state } = useHere();
  const hours = night.hours.map((h) => Date.parse(h));
  const first = (hours[0] ?? 0) - 20 * 60_000;
  const last = (hours.at(-1) ?? 0) + 20 * 60_000;
  const at = (time: string | null) => (time ? ((Date.parse(time) - first) / (last - first)) * 100 : 0);
  const clock = new Intl.DateTimeFormat("en-GB", {
    hour: "2-digit",
    minute: "2-digit",
    timeZone: state.time_zone,
  });
  const air = night.air_from_c !== null && night.air_to_c !== null;
  return (
    <div className="relative h-[96px] max-md:h-[106px]">
      {air && (
        <div className="absolute inset-x-0 top-0 h-7">
          <svg
            viewBox="0 0 100 20"
            preserveAspectRatio="none"
            className="absolute h-5 overflow-visible"
            style={{ left: `${at(night.begins)}%`, width: `${at(night.ends) - at(night.begins)}%` }}
          >
            <path d="M0 3L100 17" stroke="var(--ink)" strokeWidth="1.4" vectorEffect="non-scaling-stroke" />
          </svg>
          <span
            className="num absolute bg-paper pr-1 text-s whitespace-nowrap text-ink2"
            style={{
              right: `min(${100 - at(night.begins)}% + 4px, 100% - 4px - ${String(night.air_from_c).length + 3}ch)`,
              top: -4,
            }}
          >
            <span className="max-md:hidden">air </span>
            {night.air_from_c} °C
          </span>
          <span
            className="num absolute text-s whitespace-nowrap text-ink2"
            style={{ left: `calc(${at(night.ends)}% + 8px)`, top: 8 }}
          >
            {night.air_to_c} °C
          </span>
        </div>
      )}
      <div className="absolute inset-x-0 top-[30px] h-[34px] max-md:h-11">
        {night.sets.map((set) => {
          const left = at(set.begins);
          const width = Math.max(at(set.ends) - left, 2.4);
          const on = chosen === set.id;
          return (
            <button
              key={set.id}
              type="button"
              onClick={() => onChoose(set.id)}
              title={`${set.target}, ${set.text}`}
              aria-label={`${set.target} in ${set.stamp}, ${set.text}`}
              className={`@container absolute flex h-full items-center gap-1.5 overflow-hidden px-1.5 text-s whitespace-nowrap ${on ? "bg-ink text-paper" : "bg-line text-ink"}`}
              style={{ left: `${left}%`, width: `${width}%` }}
            >
              <span className={`contents ${roomFor(set.stamp)}`}>
                <FilterStamp code={set.stamp} nm={set.passband_nm} />
              </span>
              {width > 11 && <span className="truncate">{several(set.taken, "light")}</span>}
            </button>
          );
        })}
      </div>
      <div className="absolute inset-x-0 top-[64px] h-[5px] bg-ink max-md:top-[74px]" />
      {night.hours.map((hour) => (
        <span
          key={hour}
          className="num absolute top-[72px] -translate-x-1/2 text-s max-md:top-[82px] text-ink2"
          style={{ left: `${at(hour)}%` }}
        >
          {clock.format(Date.parse(hour))}
        </span>
      ))}
    </div>
  );
}
