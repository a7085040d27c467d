import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { ColumnHead, Trouble } from "../../../parts/basics";
import { TakeBack } from "../../../parts/TakeBack";

/** What was said before, each with a way back. */
export function SaidBefore({ said }: { said: Schemas["SaidOut"][] }) {
  const back = useChange((id: number) =>
    get(api.POST("/api/mend/{mending_id}/take-back", { params: { path: { mending_id: id } } })),
  );
  if (said.length === 0) return null;
  return (
    <section>
      <ColumnHead
        note={
          <a className="underline underline-offset-2" href="/api/mend/said.csv">
            CSV
          </a>
        }
      >
        Said before
      </ColumnHead>
      {back.error ? <Trouble error={back.error} /> : null}
      <ul className="max-h-[420px] overflow-auto">
        {said.map((one) => (
          <li key={one.id} className="border-b border-line py-1.5">
            <p className={one.taken_back ? "text-ink2 line-through" : ""}>{one.words}</p>
            <p className="text-s break-words text-ink2">
              {one.n_frames.toLocaleString("en")} {one.n_frames === 1 ? "frame" : "frames"} {one.of}
            </p>
            <p className="flex justify-between gap-3 text-s text-ink2">
              <span className="num">{one.taken_back ? `taken back ${one.taken_back}` : one.on}</span>
              {!one.taken_back && <TakeBack what={one.words} onClick={() => back.mutate(one.id)} />}
            </p>
          </li>
        ))}
      </ul>
    </section>
  );
}
