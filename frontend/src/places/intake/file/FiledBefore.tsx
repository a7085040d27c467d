import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { ColumnHead, Trouble } from "../../../parts/basics";
import { JobHere } from "../../../parts/JobCards";
import { TakeBack } from "../../../parts/TakeBack";

/** What was filed before: how far it is, its journal, and the way back. */
export function FiledBefore({ filed }: { filed: Schemas["FiledOut"][] }) {
  const back = useChange((id: number) =>
    get(api.POST("/api/filing/{filing_id}/take-back", { params: { path: { filing_id: id } } })),
  );
  if (filed.length === 0) return null;
  return (
    <section>
      <ColumnHead>Filed before</ColumnHead>
      {back.error ? <Trouble error={back.error} /> : null}
      <ul className="max-h-[480px] overflow-auto">
        {filed.map((one) => (
          <li key={one.id} className="border-b border-line py-1.5">
            <p className={`break-words ${one.taken_back ? "text-ink2 line-through" : ""}`}>
              {one.way === "move" ? "Moved" : "Copied"} frames {one.words}, into{" "}
              <span className="num text-s break-all">{one.root}</span>
            </p>
            <p className="text-s text-ink2">
              {one.counts.map((c) => `${c.count.toLocaleString("en")} ${c.name}`).join(", ")}
            </p>
            {one.job && <JobHere job={one.job} doing="" />}
            <p className="flex flex-wrap justify-between gap-x-3 text-s text-ink2">
              <span className="num">{one.taken_back ? `brought back ${one.taken_back}` : one.on}</span>
              <span className="flex gap-3">
                <a className="underline underline-offset-2" href={`/api/filing/${one.id}.csv`}>
                  CSV
                </a>
                {one.can_take_back && (
                  <TakeBack what={`filing of ${one.on}`} onClick={() => back.mutate(one.id)} />
                )}
              </span>
            </p>
          </li>
        ))}
      </ul>
    </section>
  );
}
