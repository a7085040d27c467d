import { useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, ColumnHead, PageHead, Trouble } from "../../parts/basics";
import { useHere } from "../../parts/context";
import { FilterStamp } from "../../parts/FilterStamp";
import { waiting } from "../../parts/proposal";
import { TextBox } from "./fields";
import { nameOf, Spellings } from "./Names";

type Proposal = Schemas["ProposalOut"];
type Proposed = Schemas["ProposedOut"];
type Named = Schemas["RigNamed"];

/** Say that a rig is another one in truth. */
export function JoinWith({ rig, others }: { rig: number; others: Named[] }) {
  const { chooseRig } = useHere();
  const join = useChange(async (into: number) => {
    const path = { rig_id: rig };
    const done = await get(api.POST("/api/rigs/{rig_id}/join", { params: { path }, body: { into } }));
    // At once: with the next answer this rig stands nowhere any more.
    chooseRig(into);
    return done;
  });
  // A list for each of hundreds of rigs is made when it is opened, not before.
  const [opened, setOpened] = useState(false);
  if (others.every((o) => o.id === rig)) return null;
  const choices = opened ? others.filter((o) => o.id !== rig) : [];
  return (
    <>
      <select
        aria-label="It is another rig in truth"
        className="h-8 w-36 rounded-sm border border-rule bg-card px-2 max-md:h-11"
        value=""
        disabled={join.isPending}
        onPointerDown={() => setOpened(true)}
        onFocus={() => setOpened(true)}
        onChange={(e) => e.target.value && join.mutate(Number(e.target.value))}
      >
        <option value="">It is in truth …</option>
        {choices.map((o) => (
          <option key={o.id} value={o.id}>
            {o.name}
          </option>
        ))}
      </select>
      {join.error && <Trouble error={join.error} />}
    </>
  );
}

function OneRig({ data, others }: { data: Proposed; others: Named[] }) {
  const [name, setName] = useState(data.name);
  const keep = useChange((called: string) =>
    get(
      api.POST("/api/rigs/{rig_id}/keep", {
        params: { path: { rig_id: data.rig_id } },
        body: { name: called },
      }),
    ),
  );
  return (
    <li className="grid grid-cols-[minmax(0,1fr)_260px] gap-x-6 border-b border-line py-3 max-md:grid-cols-1">
      <div>
        <h3 className="text-l font-semibold">{data.title}</h3>
        <p className="text-s text-ink2">{data.evidence}</p>
        {data.filters.length > 0 && (
          <p className="flex flex-wrap items-center gap-2 pt-1">
            {data.filters.map((code) => (
              <FilterStamp key={code} code={code} nm={null} />
            ))}
          </p>
        )}
        <Spellings spellings={data.spellings} />
        {data.not_told && <p className="pt-1 text-s text-ink2">No header tells its {data.not_told}.</p>}
      </div>
      <form
        className="flex flex-wrap content-start items-center gap-2 max-md:pt-2"
        onSubmit={(e) => {
          e.preventDefault();
          keep.mutate(name);
        }}
      >
        <TextBox label={`Name of ${data.title}`} width="w-full" value={name} onChange={setName} />
        <Button look="ink" type="submit" disabled={!name.trim() || keep.isPending}>
          Keep it
        </Button>
        <JoinWith rig={data.rig_id} others={others} />
      </form>
      {keep.error && (
        <div className="col-span-full">
          <Trouble error={keep.error} />
        </div>
      )}
    </li>
  );
}

/** What nobody but the person can tell. */
function Questions({ data }: { data: Proposal }) {
  const one = useChange((name: Schemas["NameIn"]) => get(api.POST("/api/names/one", { body: name })));
  const two = useChange((name: Schemas["NameIn"]) => get(api.POST("/api/names/two", { body: name })));
  const again = useChange((name: Schemas["NameIn"]) => get(api.POST("/api/names/ask-again", { body: name })));
  const error = one.error ?? two.error ?? again.error;
  const busy = one.isPending || two.isPending;
  return (
    <section aria-label="Questions" className="max-lg:order-first">
      <ColumnHead>
        {data.doubts.length > 0 ? "What headers leave open" : "Headers leave nothing open"}
      </ColumnHead>
      {error && <Trouble error={error} />}
      <ul>
        {data.doubts.map((doubt) => (
          <li
            key={`${doubt.about} ${doubt.camera} ${doubt.spelled} ${doubt.name}`}
            className="border-b border-line py-3"
          >
            <p className="text-l font-semibold text-accent">{doubt.question}</p>
            <p className="pt-0.5 text-s text-ink2">{doubt.why}</p>
            <div className="flex flex-wrap gap-3 pt-2">
              <Button disabled={busy} onClick={() => one.mutate(nameOf(doubt))}>
                {doubt.one}
              </Button>
              <Button disabled={busy} onClick={() => two.mutate(nameOf(doubt))}>
                {doubt.two}
              </Button>
            </div>
          </li>
        ))}
        {data.said_two.map((said) => (
          <li
            key={`${said.about} ${said.camera} ${said.spelled} ${said.name}`}
            className="flex items-baseline gap-2 border-b border-line py-1.5 text-s text-ink2"
          >
            <span className="min-w-0 flex-1">{said.words} are two, as you said.</span>
            <button
              type="button"
              className="-my-1 py-1 underline underline-offset-2 hover:no-underline max-md:min-h-11"
              onClick={() => again.mutate(nameOf(said))}
            >
              ask again
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Rigs that are shown at first, and with each step after it. */
const AT_ONCE = 40;

/** Rigs that headers propose: the evidence, the spellings, and what is asked. */
export function ProposedRigs({ data, onDone }: { data: Proposal; onDone: (() => void) | null }) {
  const all = useChange(() =>
    get(
      api.POST("/api/rigs/keep", {
        body: { rigs: data.rigs.map(({ rig_id, name }) => ({ rig_id, name })) },
      }),
    ),
  );
  const [shown, setShown] = useState(AT_ONCE);
  const title = `${waiting(data) || "All rigs are as you said"}.`;
  const actions = (
    <>
      {data.rigs.length > 1 && (
        <Button look="accent" disabled={all.isPending} onClick={() => all.mutate(undefined)}>
          {all.isPending ? "Keeping" : "Keep"} all {data.rigs.length}
        </Button>
      )}
      {onDone && <Button onClick={onDone}>Draw the train</Button>}
    </>
  );
  return (
    <div className="px-6 pb-6 max-md:px-4">
      <div className="max-md:hidden">
        <PageHead title={title}>{actions}</PageHead>
      </div>
      <div className="hidden pb-2 max-md:block">
        <h1 className="py-2 text-xl font-semibold">{title}</h1>
        <div className="flex gap-3">{actions}</div>
      </div>
      {all.error && <Trouble error={all.error} />}
      <div className="grid grid-cols-[minmax(0,1fr)_400px] items-start gap-8 pt-2 max-lg:grid-cols-1">
        <section aria-label="Proposed rigs">
          <ColumnHead>Frames that belong together</ColumnHead>
          <ul>
            {data.rigs.slice(0, shown).map((rig) => (
              <OneRig key={rig.rig_id} data={rig} others={data.others} />
            ))}
            {data.rigs.length > shown && (
              <li className="py-3">
                <Button onClick={() => setShown(shown + AT_ONCE)}>
                  Show more: {data.rigs.length - shown} are not shown
                </Button>
              </li>
            )}
            {data.rigs.length === 0 && <li className="py-2 text-ink2">Every rig was kept.</li>}
          </ul>
        </section>
        <Questions data={data} />
      </div>
    </div>
  );
}
