import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, ColumnHead, Segments, Trouble } from "../../parts/basics";
import { GO_WORDS } from "../../parts/goes";
import { SaveLinks } from "../../parts/SaveLinks";
import { noNumber, numberOf } from "../../parts/typedNumber";

type Rig = Schemas["RigOut"];
type Rules = Schemas["HouseRulesOut"];
type Rule = Schemas["RuleOut"];
type Change = Partial<Omit<Schemas["HouseRulesIn"], "reason" | "numbers">> & {
  numbers: Record<string, number>;
};

/** As it is sent: null leaves a rule as it is. */
const asked = (change: Change, reason = ""): Schemas["HouseRulesIn"] => ({
  flats_when: null,
  flats_go: null,
  raw_frames: null,
  bias_under_flats: null,
  dark_temps_c: null,
  dark_exposures_s: null,
  ...change,
  reason,
});

const NOTHING: Change = { numbers: {} };

const isEmpty = (change: Change) =>
  Object.keys(change).length === 1 && Object.keys(change.numbers).length === 0;

/** One rule as a sentence about its number. */
function Line({ rule, value, onChange }: { rule: Rule; value: number; onChange: (value: number) => void }) {
  const [text, setText] = useState<string | null>(null);
  const own = value !== rule.usual;
  return (
    <li className="py-0.5">
      <label className="flex flex-wrap items-center gap-x-1.5">
        {rule.before && <span>{rule.before}</span>}
        <span className="flex items-center gap-1">
          <input
            type={rule.whole ? "number" : "text"}
            inputMode={rule.whole ? "numeric" : "decimal"}
            aria-invalid={noNumber(text ?? "")}
            aria-label={`${rule.before} … ${rule.unit} ${rule.after}`.trim()}
            className={`num h-7 [appearance:textfield] [&::-webkit-inner-spin-button]:appearance-none rounded-sm border bg-card px-1.5 text-right max-md:h-11 ${own ? "border-ink" : "border-line"}`}
            style={{
              width: `${Math.max(Math.min(String(rule.most).length, 4), String(value).length, 3) + 3}ch`,
            }}
            value={text ?? value}
            onChange={(e) => {
              setText(e.target.value);
              if (Number.isFinite(numberOf(e.target.value))) onChange(numberOf(e.target.value));
            }}
            onBlur={() => setText(null)}
          />
          {rule.unit && <span className="text-ink2">{rule.unit}</span>}
        </span>
        {rule.after && <span>{rule.after}</span>}
      </label>
      {(rule.since || own) && (
        <p className="text-s text-ink2">
          {own && `usual ${rule.usual}${rule.since ? "; " : ""}`}
          {rule.since && `since ${rule.since}${rule.reason ? `: ${rule.reason}` : ""}`}
        </p>
      )}
    </li>
  );
}

const WHEN: { value: Rules["flats_when"]; label: string }[] = [
  { value: "each night", label: "Each night" },
  { value: "once per set-up", label: "Once per set-up" },
  { value: "when something moved", label: "When something moved" },
];

const RAW: { value: Rules["raw_frames"]; label: string }[] = [
  { value: "kept as they are", label: "kept as they are" },
  { value: "packed without loss", label: "packed without loss" },
  { value: "thrown away", label: "thrown away" },
];

const numbersIn = (text: string) =>
  text
    .replaceAll("−", "-")
    .split(/[;\s]+|,(?!\d)|,\s/)
    .filter(Boolean)
    .map((part) => Number(part.replace(",", ".")));

/** Numbers in a row, as they are typed: '−10, 0'. */
function Several({
  label,
  unit,
  value,
  onChange,
}: {
  label: string;
  unit: string;
  value: number[];
  onChange: (value: number[]) => void;
}) {
  const [text, setText] = useState<string | null>(null);
  const wrong = text !== null && numbersIn(text).some(Number.isNaN);
  return (
    <label className="flex items-center gap-1.5 py-0.5">
      <span>{label}</span>
      <input
        aria-invalid={wrong}
        placeholder="none"
        className={`num h-7 min-w-0 flex-1 rounded-sm border bg-card px-1.5 max-md:h-11 ${wrong ? "border-accent" : "border-line"}`}
        value={text ?? value.map((v) => String(v).replace("-", "−")).join(", ")}
        onChange={(e) => {
          setText(e.target.value);
          const found = numbersIn(e.target.value);
          if (!found.some(Number.isNaN)) onChange(found);
        }}
        onBlur={() => setText(null)}
      />
      <span className="text-ink2">{unit}</span>
    </label>
  );
}

/** What a change would do, told before it is made. */
function Would({ rig, change, onDone }: { rig: number; change: Change; onDone: () => void }) {
  const [reason, setReason] = useState("");
  const params = { params: { path: { rig_id: rig } } };
  const would = useQuery({
    queryKey: ["would", rig, change],
    queryFn: () => get(api.POST("/api/rigs/{rig_id}/house-rules/would", { ...params, body: asked(change) })),
    retry: false,
  });
  const keep = useChange(
    () => get(api.PUT("/api/rigs/{rig_id}/house-rules", { ...params, body: asked(change, reason) })),
    onDone,
  );
  const told = would.data;
  return (
    <form
      className="sticky bottom-0 mt-3 border border-ink bg-card px-4 py-3"
      onSubmit={(e) => {
        e.preventDefault();
        keep.mutate(undefined);
      }}
    >
      {would.isFetching && (
        <p role="status" className="text-ink2">
          Looking at every slip under these rules…
        </p>
      )}
      {would.error && <Trouble error={would.error} />}
      {told && !would.isFetching && (
        <div role="status">
          {told.changes.map((c) => (
            <p key={c}>{c}</p>
          ))}
          {told.changes.length === 0 && <p>Nothing is other than it was.</p>}
          {told.moves.map((m) => (
            <p key={m} className="font-semibold">
              {m}
            </p>
          ))}
          {told.changes.length > 0 && told.moves.length === 0 && (
            <p className="text-ink2">No slip would end otherwise.</p>
          )}
          {told.raw_offered > 0 && (change.raw_frames || "raw_days" in change.numbers) && (
            <p>
              {told.raw_offered.toLocaleString("en")} raw frames would be offered under Intake, Room on the
              disks; none goes by itself.
            </p>
          )}
          {told.darks_asked > 0 && (
            <p>
              {told.darks_asked} standard {told.darks_asked === 1 ? "dark is" : "darks are"} not on the shelf:
              Tonight offers {told.darks_asked === 1 ? "it" : "them"}.
            </p>
          )}
        </div>
      )}
      <div className="flex flex-wrap items-center gap-2 pt-2">
        <input
          aria-label="Reason for the change"
          placeholder="Why, for later"
          className="h-8 min-w-48 flex-1 rounded-sm border border-rule bg-card px-2 max-md:h-11"
          value={reason}
          onChange={(e) => setReason(e.target.value)}
        />
        <Button
          look="ink"
          type="submit"
          disabled={!told || told.changes.length === 0 || would.isFetching || keep.isPending}
        >
          Keep these rules
        </Button>
        <Button look="link" onClick={onDone}>
          Leave them as they were
        </Button>
      </div>
      {keep.error && <Trouble error={keep.error} />}
    </form>
  );
}

/** The house rules of a rig; what a change would do is said before it is made. */
export function HouseRules({ data }: { data: Rig }) {
  const [change, setChange] = useState<Change>(NOTHING);
  const [round, setRound] = useState(0);
  const rules = data.rules;
  const set = (values: Partial<Change>) => setChange((c) => ({ ...c, ...values }));
  const done = () => {
    setChange(NOTHING);
    setRound(round + 1);
  };
  return (
    <section key={round} aria-label="House rules">
      <ColumnHead
        note={
          <SaveLinks
            name="house-rules"
            files={[{ label: "CSV", href: `/api/rigs/${data.id}/house-rules.csv` }]}
          />
        }
      >
        House rules
      </ColumnHead>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1 pt-3">
        <span>Flats are shot</span>
        <Segments
          label="When flats are shot"
          value={change.flats_when ?? rules.flats_when}
          options={WHEN}
          onChange={(flats_when) => set({ flats_when })}
        />
        <label className="flex items-center gap-2">
          and go
          <select
            className="h-8 rounded-sm border border-rule bg-card px-2 max-md:h-11"
            value={change.flats_go ?? rules.flats_go}
            onChange={(e) => set({ flats_go: e.target.value as Rules["flats_go"] })}
          >
            {GO_WORDS.map(({ value, label }) => (
              <option key={value} value={value}>
                {label}
              </option>
            ))}
          </select>
        </label>
        <label className="flex items-center gap-2">
          raw frames of a master are to be
          <select
            className="h-8 rounded-sm border border-rule bg-card px-2 max-md:h-11"
            value={change.raw_frames ?? rules.raw_frames}
            onChange={(e) => set({ raw_frames: e.target.value as Rules["raw_frames"] })}
          >
            {RAW.map(({ value, label }) => (
              <option key={value} value={value}>
                {label}
              </option>
            ))}
          </select>
        </label>
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="accent-[var(--ink)]"
            disabled={rules.bias_refused !== ""}
            checked={change.bias_under_flats ?? rules.bias_under_flats}
            onChange={(e) => set({ bias_under_flats: e.target.checked })}
          />
          a bias stands in for dark flats
        </label>
        {rules.bias_refused && <span className="text-s text-ink2">{rules.bias_refused}</span>}
      </div>
      <div className="columns-3 gap-8 pt-2 max-lg:columns-1">
        {rules.groups.map((group) => (
          <div key={group.title} className="break-inside-avoid pb-2">
            <h3 className="narrow border-b border-line font-semibold">{group.title}</h3>
            <ul>
              {group.rules.map((rule) => (
                <Line
                  key={rule.name}
                  rule={rule}
                  value={change.numbers[rule.name] ?? rule.value}
                  onChange={(v) => set({ numbers: { ...change.numbers, [rule.name]: v } })}
                />
              ))}
            </ul>
          </div>
        ))}
        <div className="break-inside-avoid pb-2">
          <h3 className="narrow border-b border-line font-semibold">Standard darks</h3>
          <Several
            label="at"
            unit="°C"
            value={change.dark_temps_c ?? rules.dark_temps_c}
            onChange={(dark_temps_c) => set({ dark_temps_c })}
          />
          <Several
            label="of"
            unit="s"
            value={change.dark_exposures_s ?? rules.dark_exposures_s}
            onChange={(dark_exposures_s) => set({ dark_exposures_s })}
          />
          <p className="text-s text-ink2">Tonight offers those that are not on the shelf.</p>
        </div>
      </div>
      {!isEmpty(change) && <Would rig={data.id} change={change} onDone={done} />}
    </section>
  );
}
