import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { Button, ColumnHead, Trouble } from "../../../parts/basics";
import { NOBODY, type Meant } from "../meant";
import { asked, type Typed } from "./typed";

/** Frames in question, and what may be said of them: each answer with its words, the likeliest first. */
interface Question {
  key: string;
  meant: Meant;
  says: string;
  frames: number;
  example: string;
  folder: string;
  answers: { words: string; typed: Typed }[];
}

/** "They are flats", "It is a dark". */
const theyAre = (kind: string, count: number) =>
  count === 1 ? `It is a ${kind}` : `They are ${kind.endsWith("s") ? kind : `${kind}s`}`;

export const kindsInQuestion = (groups: Schemas["DoubtedOut"][]): Question[] =>
  groups.map((g) => ({
    key: `${g.folder_id}/${g.below}/${g.told}`,
    meant: { ...NOBODY, folder: g.folder_id, below: g.below, kind: g.told },
    says: `${g.frames === 1 ? "says" : "say"} ${g.told}, and the folder ${g.by_folder}`,
    frames: g.frames,
    example: g.example,
    folder: g.folder,
    answers: [g.by_folder, g.told].map((kind) => ({ words: theyAre(kind, g.frames), typed: { kind } })),
  }));

export const targetsInQuestion = (groups: Schemas["TargetProposedOut"][]): Question[] =>
  groups.map((g) => ({
    key: `${g.folder_id}/${g.below}/${g.target}`,
    meant: { ...NOBODY, folder: g.folder_id, below: g.below, kind: "light", lacks: "target" },
    says: `${g.frames === 1 ? "light says" : "lights say"} no target`,
    frames: g.frames,
    example: g.example,
    folder: g.folder,
    answers: [{ words: `The target is ${g.target}`, typed: { target: g.target } }],
  }));

/** What the folders of frames tell and their headers do not: one press says it, and it can be taken back. */
export function InQuestion({
  title,
  questions,
  onChoose,
}: {
  title: string;
  questions: Question[];
  /** Pulled, they are the frames that are meant, with the likeliest answer typed in. */
  onChoose: (meant: Meant, typed: Typed) => void;
}) {
  const say = useChange((said: { meant: Meant; typed: Typed }) =>
    get(api.POST("/api/mend", { body: asked(said.meant, said.typed) })),
  );
  if (questions.length === 0) return null;
  return (
    <section>
      <ColumnHead>{title}</ColumnHead>
      <ul className="max-h-[420px] overflow-auto">
        {questions.map((q) => (
          <li key={q.key} className="border-b border-line py-1.5 pl-3 pr-2">
            <button
              type="button"
              onClick={() => onChoose(q.meant, q.answers[0]?.typed ?? {})}
              className="block w-full text-left hover:bg-card"
            >
              <span className="flex justify-between gap-3">
                <span>{q.says}</span>
                <span className="num">{q.frames.toLocaleString("en")}</span>
              </span>
              <span className="num block truncate text-s text-ink2" title={`${q.folder}/${q.example}`}>
                {q.example}
              </span>
            </button>
            <span className="flex gap-2 pt-1.5 pb-0.5">
              {q.answers.map(({ words, typed }, place) => (
                <Button
                  key={words}
                  className="min-w-0 truncate"
                  disabled={say.isPending}
                  onClick={() => say.mutate({ meant: q.meant, typed })}
                  look={place > 0 ? "link" : undefined}
                >
                  {words}
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
