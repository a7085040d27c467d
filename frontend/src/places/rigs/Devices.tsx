import { useRef, useState } from "react";

import { api, asked, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, ColumnHead, Trouble } from "../../parts/basics";
import { TextBox } from "./fields";

type Part = Schemas["AttachedPartOut"];
type Found = Schemas["FoundDeviceOut"];
type Changed = Schemas["SheetChangedOut"];

const ofPart = (rig: number, part: string) => ({ params: { path: { rig_id: rig, part } } });

/** One part of the train, the device that moves it, and what that says of itself. */
function Line({ rig, part, busy }: { rig: number; part: Part; busy: boolean }) {
  const again = useChange(() =>
    get(api.POST("/api/rigs/{rig_id}/devices/{part}/try", ofPart(rig, part.part))),
  );
  const letGo = useChange(() => get(api.DELETE("/api/rigs/{rig_id}/devices/{part}", ofPart(rig, part.part))));
  const error = again.error ?? letGo.error;
  return (
    <li className="grid grid-cols-[6rem_minmax(0,1fr)_auto] items-start gap-x-4 border-b border-line py-1.5 max-md:grid-cols-1">
      <span className="narrow font-semibold">{part.title}</span>
      {part.name ? (
        <div className="min-w-0">
          <p>{part.name}</p>
          <p className="num truncate text-s text-ink2">{part.where}</p>
          <p className="text-s text-ink2">{part.says.join("; ")}</p>
          {part.differs.map((words) => (
            <p key={words} className="text-s text-accent">
              {words}
            </p>
          ))}
        </div>
      ) : (
        <span className="text-ink2">{part.otherwise}</span>
      )}
      {part.name && (
        <span className="flex items-baseline gap-3">
          <span className="text-s whitespace-nowrap text-ink2" role="status">
            {again.isPending ? "asking…" : `tried ${part.tried}`}
          </span>
          <Button
            look="link"
            aria-label={`Try the ${part.title.toLowerCase()} again`}
            disabled={busy || again.isPending}
            onClick={() => again.mutate(undefined)}
          >
            Try it
          </Button>
          <Button
            look="link"
            aria-label={`Let the ${part.title.toLowerCase()} go`}
            disabled={busy || letGo.isPending}
            onClick={() => letGo.mutate(undefined)}
          >
            Let it go
          </Button>
        </span>
      )}
      {error && (
        <div className="col-span-full pt-1">
          <Trouble error={error} />
        </div>
      )}
    </li>
  );
}

interface Choosing {
  titles: Record<string, string>;
  busy: boolean;
  onChoose: (device: Found, part: Part["part"], port?: number) => void;
}

/** The ports of a switch, asked for when somebody wants one as a light. */
function Ports({ device, busy, onChoose }: Omit<Choosing, "titles"> & { device: Found }) {
  const { address, kind, number, name, unique_id } = device;
  const ask = useChange(() =>
    get(api.POST("/api/devices/ports", { body: { address, kind, number, name, unique_id, port: null } })),
  );
  if (ask.error) return <Trouble error={ask.error} />;
  if (!ask.data)
    return (
      <Button disabled={busy || ask.isPending} onClick={() => ask.mutate(undefined)}>
        {ask.isPending ? "Asking…" : "A light on a port"}
      </Button>
    );
  return (
    <ul className="basis-full">
      {ask.data.ports.map((port) => (
        <li key={port.number} className="flex items-baseline gap-4 py-1">
          <span className="flex-1">
            <span className="num">{port.number}</span> {port.name}{" "}
            <span className="text-s text-ink2">{port.words}</span>
          </span>
          <Button
            disabled={busy}
            onClick={() => onChoose({ ...device, name: port.name }, "light", port.number)}
          >
            Use as light
          </Button>
        </li>
      ))}
    </ul>
  );
}

/** A device that answered, and the parts that it could move. */
function Answered({ device, titles, busy, onChoose }: Choosing & { device: Found }) {
  return (
    <li className="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b border-line py-1.5">
      <span className="min-w-0 flex-1">
        <span className="font-semibold">{device.name}</span>{" "}
        <span className="num text-s text-ink2">
          {device.kind} {device.number}
        </span>
        {device.moves && <span className="block text-s text-ink2">{device.moves}</span>}
      </span>
      {device.kind === "switch" ? (
        <Ports device={device} busy={busy} onChoose={onChoose} />
      ) : (
        device.fits.map((part) => (
          <Button key={part} disabled={busy} onClick={() => onChoose(device, part)}>
            Use as {(titles[part] ?? part).toLowerCase()}
          </Button>
        ))
      )}
    </li>
  );
}

function Servers({ found, ...choosing }: Choosing & { found: Schemas["DevicesFoundOut"] }) {
  return (
    <div aria-label="Devices found" role="region" className="pt-3">
      <p role="status">{found.words}</p>
      {found.servers.map((server) => (
        <div key={server.address} className="pt-2">
          <p className="border-b border-line pb-1 text-s text-ink2">
            <span className="num">{server.address}</span> {server.name}
          </p>
          {server.trouble && <p className="pt-1 text-accent">{server.trouble}</p>}
          <ul>
            {server.devices.map((device) => (
              <Answered key={`${device.kind} ${device.number}`} device={device} {...choosing} />
            ))}
          </ul>
          {server.others && <p className="pt-1 text-s text-ink2">Not driven from here: {server.others}.</p>}
        </div>
      ))}
      {found.servers.length === 0 && (
        <p className="pt-1 text-ink2">
          See that the devices’ program runs and is in this network, or type its address. Some networks let no
          question to all through.
        </p>
      )}
    </div>
  );
}

/** Asks this network, or one address; what takes too long can be left. */
function useLooking() {
  const stop = useRef<AbortController | null>(null);
  const look = useChange((address: string | null) => {
    stop.current = new AbortController();
    return get(api.POST("/api/devices/look", { body: { address }, signal: stop.current.signal }));
  });
  return { ...look, leave: () => stop.current?.abort() };
}

interface Choice {
  device: Found;
  part: string;
  port: number | undefined;
}

function Looking({ rig, titles, busy }: { rig: number; titles: Record<string, string>; busy: boolean }) {
  const [address, setAddress] = useState("");
  const look = useLooking();
  const choose = useChange(({ device, part, port }: Choice): Promise<Changed> => {
    const { address: at, kind, number, name, unique_id } = device;
    const body = { address: at, kind, number, name, unique_id, port: port ?? null };
    return get(api.PUT("/api/rigs/{rig_id}/devices/{part}", { ...ofPart(rig, part), body }));
  });
  return (
    <div>
      <form
        className="flex flex-wrap items-center gap-3 pt-3"
        onSubmit={(event) => {
          event.preventDefault();
          look.mutate(address.trim());
        }}
      >
        <Button look="ink" disabled={look.isPending} onClick={() => look.mutate(null)}>
          Look for them
        </Button>
        <span className="text-ink2">or at</span>
        <TextBox
          label="Address of the devices’ program"
          placeholder="192.168.1.20:11111"
          value={address}
          onChange={setAddress}
        />
        <Button type="submit" disabled={!address.trim() || look.isPending}>
          Ask there
        </Button>
        {look.isPending && (
          <span role="status" className="flex items-center gap-3">
            Listening for answers…
            <Button look="link" onClick={look.leave}>
              Leave it
            </Button>
          </span>
        )}
      </form>
      {choose.isPending && (
        <p role="status" className="pt-3">
          Asking {choose.variables.device.name} what it can do…
        </p>
      )}
      {choose.data && !choose.isPending && (
        <p role="status" className="pt-3">
          {choose.data.message}
        </p>
      )}
      {choose.error && (
        <div className="pt-3">
          <Trouble error={choose.error} />
        </div>
      )}
      {look.error && look.error.name !== "AbortError" && (
        <div className="pt-3">
          <Trouble error={look.error} />
        </div>
      )}
      {look.data && (
        <Servers
          found={look.data}
          titles={titles}
          busy={busy || choose.isPending}
          onChoose={(device, part, port) => choose.mutate({ device, part, port })}
        />
      )}
    </div>
  );
}

/** Devices on the network that speak the open Alpaca standard, and the parts of the train that they move. */
export function Devices({ rig }: { rig: number }) {
  const { data, error } = asked.useQuery("get", "/api/rigs/{rig_id}/devices", {
    params: { path: { rig_id: rig } },
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const titles = Object.fromEntries(data.parts.map((p) => [p.part, p.title]));
  return (
    <section aria-label="Devices" className="pt-6">
      <ColumnHead note="by the open Alpaca standard">Devices</ColumnHead>
      <p className="pt-2">{data.words}</p>
      {data.busy && (
        <p className="pt-1 text-ink2">The rig is at work; its devices can be changed when that has ended.</p>
      )}
      <div className="grid grid-cols-[minmax(0,1.4fr)_minmax(0,1fr)] items-start gap-8 pt-1 max-lg:grid-cols-1">
        <ul aria-label="Parts and their devices">
          {data.parts.map((part) => (
            <Line key={part.part} rig={rig} part={part} busy={data.busy} />
          ))}
        </ul>
        <Looking rig={rig} titles={titles} busy={data.busy} />
      </div>
    </section>
  );
}
