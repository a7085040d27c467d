import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { ColumnHead, Trouble } from "../../parts/basics";
import { EventForm, useEventBack } from "../../parts/EventForm";
import { Label } from "../../parts/Label";
import { SaveLinks } from "../../parts/SaveLinks";
import { TakeBack } from "../../parts/TakeBack";

type Rig = Schemas["RigOut"];
type Item = Rig["history"][number];

const LANES: { kind: Item["kind"]; label: string }[] = [
  { kind: "event", label: "done to it" },
  { kind: "Bench", label: "Bench" },
  { kind: "setting", label: "settings" },
  { kind: "flats", label: "flats" },
  { kind: "sheet", label: "sheets" },
];
const W = 400;
const LEFT = 74;
const LANE = 19;
const TOP = 8;

/** One line of time, with a lane for each kind of thing; what was done to the rig runs through all of them. */
export function HistoryLine({ data }: { data: Rig }) {
  const x = (share: number) => LEFT + share * (W - LEFT - 14);
  const base = TOP + LANES.length * LANE;
  return (
    <svg
      viewBox={`0 0 ${W} ${base + 20}`}
      className="block w-full"
      role="img"
      aria-label="History of the rig"
    >
      {LANES.map(({ label }, i) => (
        <g key={label}>
          <Label x={LEFT - 10} y={TOP + i * LANE + 13} anchor="end">
            {label}
          </Label>
          <path d={`M${LEFT} ${TOP + (i + 0.5) * LANE}H${W - 14}`} stroke="var(--line)" />
        </g>
      ))}
      {data.marks.map((mark, i) => (
        <g key={mark.label + i}>
          <path d={`M${x(mark.share)} ${base}v5`} stroke="var(--ink2)" />
          <Label x={x(mark.share)} y={base + 17} anchor={mark.share > 0.94 ? "end" : "start"}>
            {mark.label}
          </Label>
        </g>
      ))}
      {data.history.map((item, i) => {
        const lane = LANES.findIndex((l) => l.kind === item.kind);
        const y = TOP + (lane + 0.5) * LANE;
        const ink = item.taken_back ? "var(--line)" : "var(--ink)";
        return (
          <g key={i}>
            {item.kind === "event" && !item.taken_back && (
              <path d={`M${x(item.share)} ${TOP}V${base}`} stroke="var(--ink2)" strokeDasharray="2 3" />
            )}
            <rect x={x(item.share) - 2} y={y - 6} width="4" height="12" fill={ink}>
              <title>{`${item.when}: ${item.words}`}</title>
            </rect>
          </g>
        );
      })}
      <path d={`M${LEFT} ${base}H${W - 14}`} stroke="var(--ink)" />
    </svg>
  );
}

/** What was done, measured, found, shot and changed, newest first; what was entered or typed can be taken back. */
export function History({ data }: { data: Rig }) {
  const event = useEventBack(data.id);
  const change = useChange((id: number) =>
    get(
      api.POST("/api/rigs/{rig_id}/changes/{change_id}/take-back", {
        params: { path: { rig_id: data.id, change_id: id } },
      }),
    ),
  );
  const undo = (item: Item) => {
    if (item.event_id != null) event.mutate({ id: item.event_id, taken_back: item.taken_back });
    else if (item.change_id != null) change.mutate(item.change_id);
  };
  return (
    <section aria-label="History">
      <ColumnHead
        note={
          <SaveLinks name="history" files={[{ label: "CSV", href: `/api/rigs/${data.id}/history.csv` }]} />
        }
      >
        History
      </ColumnHead>
      <div className="pt-2">
        <HistoryLine data={data} />
      </div>
      <EventForm usual={data.usual_events} rig={data.id} />
      {(event.error ?? change.error) && <Trouble error={event.error ?? change.error} />}
      <ul className="pt-2">
        {data.history.map((item, i) => (
          <li key={i} className="flex items-baseline gap-3 border-b border-line py-1">
            <span className="num w-20 shrink-0 text-s whitespace-nowrap text-ink2">{item.when}</span>
            <span className={`min-w-0 flex-1 ${item.taken_back ? "text-ink2 line-through" : ""}`}>
              {item.words} {item.detail && <span className="text-ink2">{item.detail}</span>}
            </span>
            {(item.event_id != null || (item.change_id != null && !item.taken_back)) && (
              <TakeBack what={item.words} taken={item.taken_back} onClick={() => undo(item)} />
            )}
          </li>
        ))}
        {data.history.length === 0 && <li className="py-2 text-ink2">Nothing is known of its past.</li>}
      </ul>
    </section>
  );
}
