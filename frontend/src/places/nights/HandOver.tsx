import { useState } from "react";

import { api, asked, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, ColumnHead, Scroller, Trouble, Waiting } from "../../parts/basics";
import { SaveLinks } from "../../parts/SaveLinks";
import { useSettled } from "../intake/meant";
import { PatternField } from "../intake/PatternField";

type Look = Schemas["HandOverOut"];
type Query = Omit<Schemas["HandOverIn"], "folder" | "way">;
type Way = Schemas["HandOverIn"]["way"];
type Form = Schemas["HandOverIn"]["form"];

const PLACE = "hand-over folder";
const FIELD = "h-9 rounded-sm border border-rule bg-card px-2 max-md:h-11";
const WAYS: { value: Way; label: string; note: string }[] = [
  { value: "copies", label: "copies", note: "Each is compared with its original after it was written." },
  {
    value: "hard links",
    label: "hard links",
    note: "No room is taken; a program that writes into one writes into the original.",
  },
  { value: "links", label: "links", note: "No room is taken; they lead nowhere on another machine." },
];

/** What is chosen: these lights, this night, or a target over all its nights. */
interface Choice {
  of: string;
  form: Form;
  lights: boolean;
  /** Of one's own; empty for ours. */
  pattern: string;
}

const PATTERN = "hand-over pattern";
/** A pattern to begin with, which says what ours does. */
const FIRST = "{kind}/[{word}/][{word}_]{kind}[_{filter}][_{exposure}]_{number}";

/** What goes, by kind, with what is to be said of it. */
function WhatGoes({ look }: { look: Look }) {
  return (
    <section className="min-w-0">
      <ColumnHead note={look.size_text}>What goes</ColumnHead>
      <ul>
        {look.kinds.map((k) => (
          <li key={k.kind} className="flex justify-between border-b border-line py-1.5">
            <span>{k.kind}</span>
            <span className="num text-ink2">{k.text}</span>
          </li>
        ))}
      </ul>
      {look.said.length > 0 && (
        <ul
          aria-label="What does not go, or goes with care"
          className="mt-2 flex max-h-60 flex-col gap-2 overflow-auto"
        >
          {look.said.map((line) => (
            <li key={line} className="border-l-4 border-accent pl-2.5">
              {line}
            </li>
          ))}
        </ul>
      )}
      <p className="pt-3 text-s text-ink2">
        Group by {look.words.length === 1 ? "the word" : "the words"}{" "}
        <span className="num text-ink">{look.words.join(", ")}</span>: what bears the same one belongs
        together. Files without one are told apart by exposure, gain and offset.
      </p>
    </section>
  );
}

/** The names that files get; what a file is called now is told by the pointer. */
function Names({ look }: { look: Look }) {
  return (
    <section className="min-w-0">
      <ColumnHead>Their names</ColumnHead>
      <Scroller name="Names of files" className="max-h-80">
        <ul className="num text-s">
          {look.files.map((f) => (
            <li key={f.path} title={`now ${f.source}`} className="border-b border-line py-0.5 break-all">
              {f.path}
            </li>
          ))}
          {look.more > 0 && <li className="py-1 text-ink2">and {look.more.toLocaleString("en")} more</li>}
        </ul>
      </Scroller>
    </section>
  );
}

/** How folders and names are made: ours, or by a pattern of one's own. */
function OwnNames({
  parts,
  pattern,
  onChange,
}: {
  parts: Schemas["NamedOut"][];
  pattern: string;
  onChange: (pattern: string) => void;
}) {
  const own = pattern !== "";
  return (
    <div className="pb-2">
      <label className="flex items-center gap-2 pt-1 max-md:min-h-11">
        <input
          type="checkbox"
          checked={own}
          onChange={(event) => onChange(event.target.checked ? (localStorage.getItem(PATTERN) ?? FIRST) : "")}
          className="h-4 w-4 accent-[var(--ink)]"
        />
        by a pattern of my own
      </label>
      {own && (
        <PatternField
          label="What stands in [ ] is left out where it is not known"
          parts={parts}
          value={pattern}
          onChange={(text) => {
            localStorage.setItem(PATTERN, text);
            onChange(text || " ");
          }}
        />
      )}
    </div>
  );
}

/** Where it goes: into a folder, or through the browser. */
function Where({ look, query }: { look: Look; query: Query }) {
  const [folder, setFolder] = useState(() => localStorage.getItem(PLACE) ?? "");
  const [way, setWay] = useState<Way>("copies");
  const start = useChange(() => {
    localStorage.setItem(PLACE, folder.trim());
    return get(api.POST("/api/hand-over", { body: { ...query, folder: folder.trim(), way } }));
  });
  return (
    <section>
      <ColumnHead>Where it goes</ColumnHead>
      <form
        className="flex flex-col gap-2 pt-2"
        onSubmit={(event) => {
          event.preventDefault();
          start.mutate(undefined as never);
        }}
      >
        <label className="flex flex-col gap-1">
          Into a folder that is not there yet
          <input
            value={folder}
            onChange={(event) => setFolder(event.target.value)}
            placeholder="/home/…/M 33"
            className={`num ${FIELD}`}
          />
        </label>
        <label className="flex items-center gap-2">
          as
          <select value={way} onChange={(event) => setWay(event.target.value as Way)} className={FIELD}>
            {WAYS.map((w) => (
              <option key={w.value} value={w.value}>
                {w.label}
              </option>
            ))}
          </select>
          <span className="text-s text-ink2">{WAYS.find((w) => w.value === way)?.note}</span>
        </label>
        <Button look="accent" large type="submit" disabled={!folder.trim() || start.isPending}>
          Hand over {look.headline}
        </Button>
        {start.error ? <Trouble error={start.error} /> : null}
        {start.data && (
          <p role="status">It is being handed over: Work, at the right edge, shows how far it is.</p>
        )}
      </form>
      <div className="pt-4">
        <SaveLinks
          name="hand-over"
          files={[
            { label: "as a zip", href: look.zip_href },
            { label: "list (CSV)", href: look.csv_href },
            { label: "list (JSON)", href: look.json_href },
          ]}
        />
      </div>
    </section>
  );
}

/** What of these lights went before. */
function Before({ query }: { query: Query }) {
  const before = asked.useQuery("get", "/api/hand-overs", { params: { query } });
  const list = before.data?.handed ?? [];
  if (list.length === 0) return null;
  return (
    <section className="pt-4">
      <ColumnHead>Handed over before</ColumnHead>
      <ul>
        {list.map((h) => (
          <li key={h.job_id} className="border-b border-line py-1.5">
            <span className="flex flex-wrap gap-x-3">
              <span className="num text-ink2">{h.when}</span>
              <span>{h.what}</span>
              {h.state !== "done" && <span className="text-accent">{h.state}</span>}
            </span>
            <span className="num block text-s break-all">{h.folder}</span>
            {h.renewed && <span className="block text-s text-accent">{h.renewed}</span>}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Of what, as what, and whether the lights go, too. */
function Choices({
  night,
  choice,
  onChange,
}: {
  night: Schemas["NightOut"];
  choice: Choice;
  onChange: (choice: Choice) => void;
}) {
  const targets = [...new Set(night.sets.map((s) => s.target))];
  return (
    <div className="flex flex-wrap items-center gap-x-5 gap-y-2 pb-3">
      <label className="flex items-center gap-2">
        of
        <select
          aria-label="What is handed over"
          value={choice.of}
          onChange={(event) => onChange({ ...choice, of: event.target.value })}
          className={`${FIELD} font-semibold`}
        >
          <option value="night">this night</option>
          {targets.map((t) => (
            <option key={t} value={`target ${t}`}>
              {t}, all its nights
            </option>
          ))}
          {night.sets.map((s) => (
            <option key={s.id} value={`set ${s.id}`}>
              {s.target} {s.filter_code ?? ""} alone
            </option>
          ))}
        </select>
      </label>
      <label className="flex items-center gap-2">
        calibration as
        <select
          aria-label="Calibration as"
          value={choice.form}
          onChange={(event) => onChange({ ...choice, form: event.target.value as Form })}
          className={`${FIELD} font-semibold`}
        >
          <option value="masters">masters</option>
          <option value="raw frames">raw frames</option>
          <option value="calibrated lights">lights calibrated here</option>
        </select>
      </label>
      <label className="flex items-center gap-2">
        <input
          type="checkbox"
          checked={choice.lights || choice.form === "calibrated lights"}
          disabled={choice.form === "calibrated lights"}
          onChange={(event) => onChange({ ...choice, lights: event.target.checked })}
          className="h-4 w-4 accent-[var(--ink)]"
        />
        with the lights
      </label>
    </div>
  );
}

/** Lights with what serves them, for the program that stacks: into a folder, as a zip, or as a list. */
export function HandOver({
  rig,
  night,
  open,
}: {
  rig: number;
  night: Schemas["NightOut"];
  open: number | null;
}) {
  const [choice, setChoice] = useState<Choice>({
    of: open === null ? "night" : `set ${open}`,
    form: "masters",
    lights: true,
    pattern: "",
  });
  const pattern = useSettled(choice.pattern);
  const [parts, setParts] = useState<Schemas["NamedOut"][]>([]);
  const set = night.sets.find((s) => `set ${s.id}` === choice.of);
  const target = choice.of.startsWith("target ") ? choice.of.slice(7) : null;
  const query: Query = {
    sets: set ? String(set.id) : "",
    rig_id: rig,
    night: set || target ? null : night.night,
    target,
    form: choice.form,
    lights: choice.lights,
    pattern: pattern.trim(),
  };
  const look = asked.useQuery("get", "/api/hand-over", { params: { query } }, { retry: false });
  return (
    <div>
      <Choices night={night} choice={choice} onChange={setChoice} />
      <OwnNames
        parts={parts.length > 0 ? parts : (look.data?.parts ?? [])}
        pattern={choice.pattern}
        onChange={(text) => {
          // They are the same for any pattern, and are there also where it is wrong.
          if (look.data) setParts(look.data.parts);
          setChoice({ ...choice, pattern: text });
        }}
      />
      {look.error ? <Trouble error={look.error} /> : null}
      {look.isPending && <Waiting what="Gathering" />}
      {look.data && !look.error && (
        <div className="grid grid-cols-[1.4fr_1fr] gap-x-8 gap-y-5 max-md:grid-cols-1">
          <WhatGoes look={look.data} />
          <div className="row-span-2">
            <Where look={look.data} query={query} />
            <Before query={query} />
          </div>
          <Names look={look.data} />
        </div>
      )}
    </div>
  );
}
