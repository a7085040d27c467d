import { useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, Trouble } from "../../parts/basics";

type TonightData = Schemas["TonightOut"];

/** A person's own reminders, told at the gates of every run of this rig and at its end. */
export function Reminders({ data }: { data: TonightData }) {
  const [when, setWhen] = useState("cap");
  const [text, setText] = useState("");
  const [open, setOpen] = useState(false);
  const keep = useChange((reminders: Schemas["ReminderOut"][]) =>
    get(
      api.PUT("/api/rigs/{rig_id}/reminders", {
        params: { path: { rig_id: data.rig_id } },
        body: { reminders },
      }),
    ),
  );
  const says = (name: string) => data.reminded_at.find((g) => g.when === name)?.says ?? name;
  return (
    <div className="pt-1.5">
      <ul>
        {data.reminders.map((one) => (
          <li key={`${one.when}${one.text}`} className="flex items-center justify-between gap-2 py-0.5">
            <span className="text-s">
              <span className="text-ink2">{says(one.when)}:</span> {one.text}
            </span>
            <Button
              look="link"
              aria-label={`Take out: ${one.text}`}
              onClick={() => keep.mutate(data.reminders.filter((r) => r !== one))}
            >
              take out
            </Button>
          </li>
        ))}
      </ul>
      {open ? (
        <form
          className="flex flex-wrap items-center gap-2 pt-1"
          onSubmit={(event) => {
            event.preventDefault();
            keep.mutate([...data.reminders, { when, text }], { onSuccess: () => setText("") });
          }}
        >
          <select
            aria-label="When"
            value={when}
            onChange={(event) => setWhen(event.target.value)}
            className="h-8 rounded-sm border border-rule bg-card px-1 max-md:h-11"
          >
            {data.reminded_at.map((gate) => (
              <option key={gate.when} value={gate.when}>
                {gate.says}
              </option>
            ))}
          </select>
          <input
            aria-label="Remind me of"
            value={text}
            maxLength={120}
            placeholder="heater off"
            onChange={(event) => setText(event.target.value)}
            className="h-8 min-w-0 flex-1 rounded-sm border border-rule bg-card px-2 max-md:h-11"
          />
          <Button type="submit" disabled={!text.trim() || keep.isPending}>
            Keep
          </Button>
        </form>
      ) : (
        <Button look="link" onClick={() => setOpen(true)}>
          Remind me of something
        </Button>
      )}
      {keep.error ? <Trouble error={keep.error} /> : null}
    </div>
  );
}
