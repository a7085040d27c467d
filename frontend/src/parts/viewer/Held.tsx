import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/react";
import { ChevronsUpDown } from "lucide-react";

import { Segments } from "../basics";
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
}: {
  frame: number;
  other: number | null;
  against: Against;
  onOther: (other: number | null) => void;
  onAgainst: (against: Against) => void;
}) {
  const beside = useBeside(frame);
  const groups = beside.data?.groups ?? [];
  const every = groups.flatMap((g) => g.frames);
  if (every.length === 0) return null;
  const chosen = every.find((f) => f.frame_id === other);
  return (
    <section className="border-t border-line pt-2.5">
      <h3 className="narrow font-semibold">Held against</h3>
      <Listbox value={other} onChange={onOther}>
        <ListboxButton className="flex h-8 w-full items-center gap-2 rounded-sm border border-rule bg-card px-2 text-left max-md:h-11">
          <span className="min-w-0 flex-1 truncate">
            {chosen ? chosen.title : "nothing"}{" "}
            <span className="text-s text-ink2">{chosen?.detail ?? ""}</span>
          </span>
          <ChevronsUpDown size={14} aria-hidden />
        </ListboxButton>
        <ListboxOptions
          anchor="bottom start"
          className="z-[60] max-h-[380px] w-[var(--button-width)] overflow-auto border border-rule bg-card py-1 text-m text-ink focus:outline-none"
        >
          <ListboxOption value={null} className="cursor-pointer px-2.5 py-1 data-focus:bg-board">
            nothing
          </ListboxOption>
          {groups.map((group) => (
            <div key={group.title}>
              <p className="narrow px-2.5 pt-1.5 text-s text-ink2">{group.title}</p>
              {group.frames.map((f) => (
                <ListboxOption
                  key={f.frame_id}
                  value={f.frame_id}
                  className="cursor-pointer px-2.5 py-1 data-focus:bg-board data-selected:font-semibold"
                >
                  <span className="block truncate">{f.title}</span>
                  {f.detail && <span className="block text-s font-normal text-ink2">{f.detail}</span>}
                </ListboxOption>
              ))}
            </div>
          ))}
        </ListboxOptions>
      </Listbox>
      {other !== null && (
        <div className="mt-2">
          <Segments label="How it is held against it" value={against} options={WAYS} onChange={onAgainst} />
        </div>
      )}
    </section>
  );
}
