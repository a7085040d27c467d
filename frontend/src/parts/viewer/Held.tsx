import { Button, Key, Segments } from "../basics";
import { Pick } from "../Pick";
import { useBeside } from "./views";

export type Against = "beside" | "blink" | "minus" | "over";

const WAYS: { value: Against; label: string }[] = [
  { value: "beside", label: "beside" },
  { value: "blink", label: "in turn" },
  { value: "minus", label: "minus" },
  { value: "over", label: "over" },
];

/** What the picture is held against, and how. */
export function Held({
  frame,
  other,
  against,
  onOther,
  onAgainst,
  onTurn,
}: {
  frame: number;
  other: number | null;
  against: Against;
  onOther: (other: number | null) => void;
  onAgainst: (against: Against) => void;
  /** Show the other of two that are seen in turn. */
  onTurn: () => void;
}) {
  const beside = useBeside(frame);
  const groups = beside.data?.groups ?? [];
  if (groups.length === 0) return null;
  return (
    <section className="border-t border-line pt-2.5">
      <h3 className="narrow font-semibold">Held against</h3>
      <Pick
        label="Held against"
        value={other}
        groups={[
          { title: "", options: [{ value: null, title: "nothing" }] },
          ...groups.map((g) => ({
            title: g.title,
            options: g.frames.map((f) => ({ value: f.frame_id, title: f.title, detail: f.detail })),
          })),
        ]}
        onChange={onOther}
        wide
      />
      {other !== null && (
        <div className="mt-2 flex flex-wrap items-center gap-2">
          <Segments label="How it is held against it" value={against} options={WAYS} onChange={onAgainst} />
          {against === "blink" && (
            <Button onClick={onTurn}>
              The other <Key>x</Key>
            </Button>
          )}
        </div>
      )}
    </section>
  );
}
