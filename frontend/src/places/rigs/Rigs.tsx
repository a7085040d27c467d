import { useState } from "react";
import { Link, useSearchParams } from "react-router";

import { api, get, type Schemas } from "../../api/client";
import { useChange, useProposal, useRig } from "../../api/hooks";
import { Button, PageHead, Trouble, Waiting } from "../../parts/basics";
import { useHere } from "../../parts/context";
import { waiting } from "../../parts/proposal";
import { useKeys } from "../../parts/useKeys";
import { NumberBox, TextBox } from "./fields";
import type { Kind } from "./Glyphs";
import { History } from "./History";
import { Devices } from "./Devices";
import { HouseRules } from "./HouseRules";
import { Network } from "./Network";
import { JoinWith, ProposedRigs } from "./Proposed";
import { PartSheet } from "./Sheets";
import { Train } from "./Train";

type Rig = Schemas["RigOut"];
type Proposal = Schemas["ProposalOut"];

/** What happens by itself tonight, and what a hand is asked for. */
function Alone({ data }: { data: Rig }) {
  return (
    <p className="max-w-[110ch] pb-2 text-l">
      {data.by_itself ? (
        <>Tonight the rig {data.by_itself}. </>
      ) : (
        <>No device is connected: tonight’s sheet is for your own hands. </>
      )}
      {data.asks && (
        <>
          You are asked to <strong className="font-semibold">{data.asks}</strong>.
        </>
      )}
    </p>
  );
}

/** Rename it, retire it, or use it again. */
function Naming({ data }: { data: Rig }) {
  const [name, setName] = useState<string | null>(null);
  const put = useChange((body: Schemas["RigNameIn"]) =>
    get(api.PUT("/api/rigs/{rig_id}/name", { params: { path: { rig_id: data.id } }, body })),
  );
  if (name === null)
    return (
      <>
        <Button onClick={() => setName(data.name)}>Rename it</Button>
        <Button onClick={() => put.mutate({ name: data.name, retired: !data.retired })}>
          {data.retired ? "Use it again" : "Retire it"}
        </Button>
      </>
    );
  return (
    <form
      className="flex items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        put.mutate({ name, retired: data.retired }, { onSuccess: () => setName(null) });
      }}
    >
      {put.error && (
        <span role="alert" className="text-accent">
          {put.error.detail}
        </span>
      )}
      <TextBox label="Name of the rig" value={name} onChange={setName} />
      <Button look="ink" type="submit">
        Call it so
      </Button>
      <Button look="link" onClick={() => setName(null)}>
        Leave it
      </Button>
    </form>
  );
}

/** A rig that no header has named yet, with the sheets of this one. */
function NewRig({ like, onDone }: { like: Rig | null; onDone: (id: number | null) => void }) {
  const [name, setName] = useState("");
  const [camera, setCamera] = useState(like?.camera ?? "");
  const [telescope, setTelescope] = useState("");
  const [focal, setFocal] = useState<number | null>(null);
  const [copy, setCopy] = useState(like !== null);
  const make = useChange(
    () =>
      get(
        api.POST("/api/rigs", {
          body: { name, camera, telescope, focal_length_mm: focal, like: copy && like ? like.id : null },
        }),
      ),
    (made) => onDone(made.id),
  );
  return (
    <form
      className="mb-3 border border-ink bg-card px-4 py-3"
      onSubmit={(e) => {
        e.preventDefault();
        make.mutate(undefined);
      }}
    >
      <h2 className="pb-2 text-l font-semibold">Another rig</h2>
      <div className="flex flex-wrap items-center gap-3">
        <TextBox label="Name" placeholder="Name" value={name} onChange={setName} />
        <TextBox
          label="Camera, as its headers name it"
          placeholder="Camera, as its headers name it"
          width="w-64"
          value={camera}
          onChange={setCamera}
        />
        <TextBox
          label="Telescope, as its headers name it"
          placeholder="Telescope, as its headers name it"
          width="w-64"
          value={telescope}
          onChange={setTelescope}
        />
        <span className="flex items-center gap-1.5">
          <NumberBox
            label="Focal length in mm, with its reducer"
            placeholder="focal length"
            width="w-32"
            value={focal}
            onChange={setFocal}
          />
          mm
        </span>
        {like && (
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              className="accent-[var(--ink)]"
              checked={copy}
              onChange={(e) => setCopy(e.target.checked)}
            />
            with the sheets of {like.name}
          </label>
        )}
        <Button look="ink" type="submit" disabled={!name.trim() || !camera.trim() || make.isPending}>
          Begin it
        </Button>
        <Button look="link" onClick={() => onDone(null)}>
          Leave it
        </Button>
      </div>
      {make.error && <Trouble error={make.error} />}
    </form>
  );
}

function NoRig({ onNew }: { onNew: () => void }) {
  return (
    <div className="px-6">
      <PageHead title="No rig yet">
        <Button onClick={onNew}>Describe one by hand</Button>
      </PageHead>
      <p className="max-w-[60ch] text-l">
        A rig is proposed from the headers of your frames: name a folder in{" "}
        <Link to="/intake" className="underline">
          Intake
        </Link>
        , and its camera, telescope and filters stand here.
      </p>
    </div>
  );
}

/** What waits for a yes or no, beside the train. */
function Waits({ proposal, onLook }: { proposal: Proposal | undefined; onLook: () => void }) {
  const words = proposal ? waiting(proposal) : "";
  if (!words) return null;
  return (
    <p className="pb-2 text-accent" role="status">
      {words}.{" "}
      <Button look="link" onClick={onLook}>
        Look at them
      </Button>
    </p>
  );
}

function TheRig({ data, proposal, onNew }: { data: Rig; proposal: Proposal | undefined; onNew: () => void }) {
  // In the address, so that 'back' puts a sheet back, too.
  const [params, setParams] = useSearchParams();
  const asked = params.get("part");
  const pulled = data.parts.find((p) => p.kind === asked)?.kind ?? null;
  const setPulled = (kind: Kind | null) => setParams(kind ? { part: kind } : {});
  useKeys({ Escape: () => pulled && setPulled(null) });
  const pull = (kind: Kind) => setPulled(pulled === kind ? null : kind);
  const actions = (
    <>
      <Naming key={data.name} data={data} />
      <Button onClick={onNew}>Another rig</Button>
      {proposal && <JoinWith rig={data.id} others={proposal.others} />}
    </>
  );
  return (
    <div className="px-6 pb-6 max-md:px-4">
      <PageHead title={data.retired ? `${data.name}, retired` : data.name}>
        <span className="flex gap-4 max-md:hidden">{actions}</span>
      </PageHead>
      <Waits proposal={proposal} onLook={() => setParams({ proposed: "" })} />
      <Alone data={data} />
      <Train data={data} pulled={pulled} onPull={pull} />
      <div className="grid grid-cols-[minmax(0,1fr)_400px] items-start gap-8 pt-4 max-lg:grid-cols-1">
        <div className="min-w-0">
          {pulled ? (
            <div className="border border-line bg-card px-5 py-3 max-md:fixed max-md:inset-0 max-md:z-30 max-md:overflow-auto max-md:border-0">
              <PartSheet key={pulled} data={data} kind={pulled} />
              <div className="flex justify-end">
                <Button look="link" onClick={() => setPulled(null)}>
                  Put it back
                </Button>
              </div>
            </div>
          ) : (
            <HouseRules data={data} />
          )}
        </div>
        <History data={data} />
      </div>
      <Devices key={data.id} rig={data.id} />
      <Network />
      <div className="hidden flex-wrap gap-3 pt-6 max-md:flex">{actions}</div>
    </div>
  );
}

/** Rigs: the train drawn, its sheets, its house rules, its history. */
export function Rigs() {
  const { rig, chooseRig } = useHere();
  const { data, error, refetch } = useRig(rig?.id ?? 0);
  const proposal = useProposal().data;
  const [params, setParams] = useSearchParams();
  const [making, setMaking] = useState(false);
  if (error)
    return (
      <div className="p-6">
        <Trouble error={error} onRetry={() => void refetch()} />
      </div>
    );
  const done = (id: number | null) => {
    if (id !== null) chooseRig(id);
    setMaking(false);
  };
  // Where no rig was kept yet, what headers propose comes first.
  const first = proposal && proposal.rigs.length > 0 && proposal.rigs.length === proposal.others.length;
  const shown = params.has("proposed") || (first && !params.has("part"));
  // Proposals stay as they are, with what was typed, when the first rig comes in beneath them.
  if (rig && !data && !(proposal && shown)) return <Waiting what="Drawing the train" />;
  return (
    <>
      {making && (
        <div className="px-6 pt-3">
          <NewRig key={data?.id} like={data ?? null} onDone={done} />
        </div>
      )}
      {proposal && shown ? (
        <ProposedRigs data={proposal} onDone={() => setParams({ part: "" })} />
      ) : data ? (
        <TheRig key={data.id} data={data} proposal={proposal} onNew={() => setMaking(true)} />
      ) : (
        <NoRig onNew={() => setMaking(true)} />
      )}
      {!(data && !shown) && (
        <div className="px-6 pb-6 max-md:px-4">
          <Network />
        </div>
      )}
    </>
  );
}
