import { useState } from "react";
import { Link } from "react-router";

import { api, asked, get, type Schemas } from "../../../api/client";
import { useChange, useJobs } from "../../../api/hooks";
import { Button, ColumnHead, PageHead, Trouble } from "../../../parts/basics";
import { JobHere } from "../../../parts/JobCards";
import { TextBox } from "../../rigs/fields";
import { NightsToTake } from "./NightsToTake";
import { several } from "../../../parts/several";

type Giver = Schemas["GiverOut"];
type From = { giver: number } | { folder: string };

const asBody = (from: From, nights: string[] | null = null): Schemas["FetchIn"] => ({
  giver: "giver" in from ? from.giver : null,
  folder: "folder" in from ? from.folder : null,
  nights,
});

/** One of the list: asked what is new, fetched from at each dawn, or taken off. */
function One({ giver, onLook }: { giver: Giver; onLook: (from: From) => void }) {
  const dawn = useChange((at_dawn: boolean) =>
    get(
      api.PUT("/api/fetching/givers/{number}", {
        params: { path: { number: giver.number } },
        body: { at_dawn },
      }),
    ),
  );
  const off = useChange(() =>
    get(api.DELETE("/api/fetching/givers/{number}", { params: { path: { number: giver.number } } })),
  );
  const error = dawn.error ?? off.error;
  return (
    <li className="border-b border-line py-2">
      <p>
        <span className="font-semibold">{giver.name}</span>{" "}
        <span className="num text-s text-ink2">{giver.address}</span>
      </p>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1 pt-1">
        <Button onClick={() => onLook({ giver: giver.number })}>What is new there?</Button>
        <label className="flex items-center gap-2 max-md:min-h-11">
          <input
            type="checkbox"
            className="accent-[var(--ink)]"
            checked={giver.at_dawn}
            disabled={dawn.isPending}
            onChange={(e) => dawn.mutate(e.target.checked)}
          />
          fetch each morning
        </label>
        <Button look="link" aria-label={`Take it off: ${giver.name}`} onClick={() => off.mutate(undefined)}>
          Take it off
        </Button>
      </div>
      {error && <Trouble error={error} />}
    </li>
  );
}

/** Those on the list, and another by its address and code. */
function Givers({ onLook }: { onLook: (from: From) => void }) {
  const givers = asked.useQuery("get", "/api/fetching/givers", {}).data?.givers ?? [];
  const [address, setAddress] = useState("");
  const [code, setCode] = useState("");
  const add = useChange(
    () => get(api.POST("/api/fetching/givers", { body: { address, code } })),
    (made) => {
      setAddress("");
      setCode("");
      onLook({ giver: made.number });
    },
  );
  return (
    <section aria-label="Over the network">
      <ColumnHead>Over the network</ColumnHead>
      <ul>
        {givers.map((g) => (
          <One key={g.number} giver={g} onLook={onLook} />
        ))}
      </ul>
      <form
        className="flex flex-col gap-2 pt-3"
        onSubmit={(event) => {
          event.preventDefault();
          add.mutate(undefined);
        }}
      >
        <div className="flex flex-wrap gap-2">
          <TextBox
            label="Its address"
            placeholder="192.168.1.20:8417"
            width="w-44"
            value={address}
            onChange={setAddress}
          />
          <TextBox
            label="Its access code"
            placeholder="access code"
            width="w-44"
            value={code}
            onChange={setCode}
          />
        </div>
        <div className="flex items-center gap-3">
          <Button type="submit" disabled={!address.trim() || add.isPending}>
            {add.isPending ? "Asking there…" : "Add it"}
          </Button>
        </div>
        <p className="text-s text-ink2">
          There it is started with <span className="num">--lan</span>; the address and the code stand on its
          Rigs.
        </p>
        {add.error && <Trouble error={add.error} />}
      </form>
    </section>
  );
}

function AStick({ onLook }: { onLook: (from: From) => void }) {
  const [folder, setFolder] = useState("");
  return (
    <section aria-label="From a stick">
      <ColumnHead>From a stick</ColumnHead>
      <form
        className="flex flex-wrap items-center gap-2 pt-3"
        onSubmit={(event) => {
          event.preventDefault();
          onLook({ folder: folder.trim() });
        }}
      >
        <TextBox
          label="Folder of the stick"
          placeholder="/media/stick/nights"
          width="w-64"
          value={folder}
          onChange={setFolder}
        />
        <Button type="submit" disabled={!folder.trim()}>
          What is on it?
        </Button>
      </form>
    </section>
  );
}

/** What is new there, by night, and the ways to fetch it. */
function New({ from, busy }: { from: From; busy: boolean }) {
  const { data, error, isFetching, refetch } = asked.useQuery("post", "/api/fetching/new", {
    body: asBody(from),
  });
  const fetch = useChange((nights: string[]) =>
    get(api.POST("/api/fetching/fetch", { body: asBody(from, nights) })),
  );
  if (error) return <Trouble error={error} onRetry={() => void refetch()} />;
  if (!data)
    return (
      <p role="status" className="text-ink2">
        Asking what is new…
      </p>
    );
  return (
    <section aria-label="What is new">
      <ColumnHead note={`${several(data.there, "frame")} there`}>{data.name}</ColumnHead>
      <p className="flex items-center gap-3 py-2" role="status">
        {data.words}
        <Button look="link" disabled={isFetching} onClick={() => void refetch()}>
          Ask again
        </Button>
      </p>
      {data.nights.length > 0 && (
        <NightsToTake
          key={data.nights.map((n) => n.night + n.words).join()}
          nights={data.nights}
          verb="Fetch"
          busy={busy || fetch.isPending}
          allFirst
          onTake={(nights) => fetch.mutate(nights)}
        />
      )}
      {fetch.error && <Trouble error={fetch.error} />}
    </section>
  );
}

/** Nights of this library put on a stick, for another Gray Shelf. */
function OntoAStick({ busy }: { busy: boolean }) {
  const nights = asked.useQuery("get", "/api/fetching/own-nights", {}).data?.nights ?? [];
  const [folder, setFolder] = useState("");
  const put = useChange((chosen: string[]) =>
    get(api.POST("/api/fetching/put", { body: { folder: folder.trim(), nights: chosen } })),
  );
  if (nights.length === 0) return null;
  return (
    <section aria-label="Onto a stick">
      <ColumnHead note="copies; nothing leaves this library">Put nights on a stick</ColumnHead>
      <div className="py-3">
        <TextBox
          label="Folder to put nights into"
          placeholder="/media/stick/nights"
          width="w-80"
          value={folder}
          onChange={setFolder}
        />
      </div>
      <NightsToTake
        nights={nights}
        verb="Put"
        busy={busy || put.isPending || !folder.trim()}
        allFirst={false}
        onTake={(chosen) => put.mutate(chosen)}
      />
      {put.error && <Trouble error={put.error} />}
    </section>
  );
}

/** From one Gray Shelf to another: fetched over the network, or carried on a stick. */
export function Other() {
  const [from, setFrom] = useState<From | null>(null);
  const jobs = useJobs().data;
  const ours = (kind: string) => kind === "fetch" || kind === "put on a stick";
  const going = (jobs?.alive ?? []).find((job) => ours(job.kind));
  const last = (jobs?.ended ?? []).find((job) => ours(job.kind));
  return (
    <div className="px-6 pb-6 max-md:px-4">
      <PageHead title="From another Gray Shelf.">
        <Link to="/intake" className="underline underline-offset-2">
          Intake
        </Link>
      </PageHead>
      <div className="grid grid-cols-[400px_minmax(0,1fr)] items-start gap-8 max-lg:grid-cols-1">
        <div className="flex min-w-0 flex-col gap-6">
          <Givers onLook={setFrom} />
          <AStick onLook={setFrom} />
        </div>
        <div className="flex min-w-0 flex-col gap-6">
          {going && <JobHere job={going} doing={going.kind === "fetch" ? "fetching" : "putting"} />}
          {!going && last && (
            <p role="status" className={last.state === "failed" ? "text-accent" : ""}>
              {last.message} {last.advice}
            </p>
          )}
          {from && <New key={JSON.stringify(from)} from={from} busy={going !== undefined} />}
          <OntoAStick busy={going !== undefined} />
        </div>
      </div>
    </div>
  );
}
