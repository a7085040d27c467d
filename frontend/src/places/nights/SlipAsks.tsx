import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, Trouble } from "../../parts/basics";
import { TakeBack } from "../../parts/TakeBack";

const useSay = (rig: number) =>
  useChange((body: Schemas["PartIn"]) =>
    get(api.PUT("/api/rigs/{rig_id}/says", { params: { path: { rig_id: rig } }, body })),
  );

/** What no header tells, asked once; the answer is kept for the rig. */
export function Asked({ question, rig }: { question: Schemas["QuestionOut"]; rig: number }) {
  const say = useSay(rig);
  const quantity = question.quantity as Schemas["PartIn"]["quantity"];
  return (
    <div className="my-1.5 flex flex-wrap items-center gap-x-3 gap-y-1.5 border-l-4 border-ink bg-paper px-3 py-1.5">
      <p className="flex-1">{question.text}</p>
      {(["fixed", "moves"] as const).map((says) => (
        <Button key={says} disabled={say.isPending} onClick={() => say.mutate({ quantity, says })}>
          {question[says]}
        </Button>
      ))}
      {say.error ? <Trouble error={say.error} /> : null}
    </div>
  );
}

/** What was said of the rig, each with a way back. */
export function Said({ said, rig }: { said: Schemas["PartSaid"][]; rig: number }) {
  const say = useSay(rig);
  return (
    <p className="pt-0.5 text-s text-ink2">
      You said:{" "}
      {said.map((part) => (
        <span key={part.quantity} className="pr-3">
          {part.text}{" "}
          <TakeBack
            what={part.text}
            onClick={() =>
              say.mutate({ quantity: part.quantity as Schemas["PartIn"]["quantity"], says: null })
            }
          />
        </span>
      ))}
    </p>
  );
}
