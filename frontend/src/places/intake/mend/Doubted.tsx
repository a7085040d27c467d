import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { Button, ColumnHead, Trouble } from "../../../parts/basics";
import { NOBODY, type Meant } from "../meant";
import { asked } from "./typed";

type Group = Schemas["DoubtedOut"];

const meantBy = (g: Group): Meant => ({ ...NOBODY, folder: g.folder_id, below: g.below, kind: g.told });

/** "They are flats", "It is a dark". */
const theyAre = (kind: string, count: number) =>
  count === 1 ? `It is a ${kind}` : `They are ${kind.endsWith("s") ? kind : `${kind}s`}`;

/** Frames whose headers say another kind than their folder: one press says which is right, and can be taken back. */
export function Doubted({
  groups,
  onChoose,
}: {
  groups: Group[];
  /** Pulled, they are the frames that are meant, with what they may be typed in. */
  onChoose: (meant: Meant, kind: string) => void;
}) {
  const say = useChange((said: { group: Group; kind: string }) =>
    get(api.POST("/api/mend", { body: asked(meantBy(said.group), { kind: said.kind }) })),
  );
  return (
    <section>
      <ColumnHead>Header or folder?</ColumnHead>
      <ul className="max-h-[420px] overflow-auto">
        {groups.map((g) => (
          <li key={`${g.folder_id}/${g.below}/${g.told}`} className="border-b border-line py-1.5 pl-3 pr-2">
            <button
              type="button"
              onClick={() => onChoose(meantBy(g), g.by_folder)}
              className="block w-full text-left hover:bg-card"
            >
              <span className="flex justify-between gap-3">
                <span>
                  {g.frames === 1 ? "says" : "say"} {g.told}, and the folder {g.by_folder}
                </span>
                <span className="num">{g.frames.toLocaleString("en")}</span>
              </span>
              <span className="num block truncate text-s text-ink2" title={`${g.folder}/${g.example}`}>
                {g.example}
              </span>
            </button>
            <span className="flex gap-2 pt-1.5 pb-0.5">
              {[g.by_folder, g.told].map((kind) => (
                <Button
                  key={kind}
                  disabled={say.isPending}
                  onClick={() => say.mutate({ group: g, kind })}
                  look={kind === g.told ? "link" : undefined}
                >
                  {theyAre(kind, g.frames)}
                </Button>
              ))}
            </span>
          </li>
        ))}
      </ul>
      {say.error ? <Trouble error={say.error} /> : null}
    </section>
  );
}
