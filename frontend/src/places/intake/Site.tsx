import { useState } from "react";

import { api, get, type Schemas } from "../../api/client";
import { useChange } from "../../api/hooks";
import { Button, Trouble } from "../../parts/basics";
import { Degrees } from "../../parts/Degrees";
import { PlaceTold } from "../../parts/PlaceTold";

interface Typed {
  name: string;
  zone: string;
  latitude: string;
  longitude: string;
}

export function Site({ data }: { data: Schemas["IntakeOut"] }) {
  // What was not typed here is as it is kept, also where another page has changed it meanwhile.
  const [typed, setTyped] = useState<Partial<Typed>>({});
  const asKept: Typed = {
    name: data.site,
    zone: data.time_zone,
    latitude: data.latitude?.toString() ?? "",
    longitude: data.longitude?.toString() ?? "",
  };
  const { name, zone, latitude, longitude }: Typed = { ...asKept, ...typed };
  const set = (more: Partial<Typed>) => setTyped((before) => ({ ...before, ...more }));
  const keep = useChange(() =>
    get(
      api.PUT("/api/site", {
        body: {
          name,
          time_zone: zone,
          latitude: latitude.trim() || null,
          longitude: longitude.trim() || null,
        },
      }),
    ),
  );
  const take = (told: Schemas["PlaceToldOut"]) =>
    set({ latitude: told.latitude.toString(), longitude: told.longitude.toString() });
  const moved = latitude.trim() !== asKept.latitude || longitude.trim() !== asKept.longitude;
  const changed = name !== data.site || zone !== data.time_zone || moved;
  return (
    <form
      className="flex flex-col gap-2 border-t border-line pt-3"
      onSubmit={(event) => {
        event.preventDefault();
        keep.mutate(undefined, { onSuccess: () => setTyped({}) });
      }}
    >
      <h2 className="text-l font-semibold">Site</h2>
      <div className="grid grid-cols-[84px_1fr] items-center gap-2">
        <label htmlFor="site-name">Name</label>
        <input
          id="site-name"
          value={name}
          maxLength={80}
          onChange={(e) => set({ name: e.target.value })}
          className="h-8 rounded-sm border border-rule bg-card px-2"
        />
        <label htmlFor="site-zone">Time zone</label>
        <input
          id="site-zone"
          list="zones"
          value={zone}
          onChange={(e) => set({ zone: e.target.value })}
          className="h-8 rounded-sm border border-rule bg-card px-2"
        />
        <datalist id="zones">
          {data.zones.map((z) => (
            <option key={z} value={z} />
          ))}
        </datalist>
        <label htmlFor="site-north">Latitude</label>
        <span className="flex items-center gap-2">
          <Degrees id="site-north" value={latitude} onChange={(text) => set({ latitude: text })} />° north
        </span>
        <label htmlFor="site-east">Longitude</label>
        <span className="flex items-center gap-2">
          <Degrees id="site-east" value={longitude} onChange={(text) => set({ longitude: text })} />° east
        </span>
      </div>
      <p className="text-s text-ink2">
        A night runs from noon to noon by this clock, and is named by its evening. Its place tells the sun’s
        course; south and west are negative.
      </p>
      {data.place_told && (
        <PlaceTold
          told={data.place_told}
          take={latitude === "" ? "Take it as the site’s" : ""}
          onTake={take}
        />
      )}
      {changed && (
        <Button type="submit" look="ink" className="self-start" disabled={keep.isPending}>
          {zone !== data.time_zone ? "Count nights by this clock" : "Keep the site"}
        </Button>
      )}
      {keep.data && !changed && <p role="status">{keep.data.message}</p>}
      {keep.error ? <Trouble error={keep.error} /> : null}
    </form>
  );
}

/** Rigs that stand elsewhere: their frames that name no place have their nights by another clock. */
export function RigZones({ data }: { data: Schemas["IntakeOut"] }) {
  const keep = useChange(({ rig, zone }: { rig: number; zone: string | null }) =>
    get(
      api.PUT("/api/rigs/{rig_id}/time-zone", {
        params: { path: { rig_id: rig } },
        body: { time_zone: zone },
      }),
    ),
  );
  const [typed, setTyped] = useState<Record<number, string>>({});
  if (data.rig_zones.length === 0) return null;
  return (
    <details className="border-t border-line pt-2">
      <summary className="cursor-pointer py-1">Rigs that stand in another time zone</summary>
      <ul>
        {data.rig_zones.map((rig) => {
          const now = typed[rig.rig_id] ?? rig.time_zone ?? "";
          return (
            <li key={rig.rig_id}>
              <form
                className="grid grid-cols-[84px_1fr_auto] items-center gap-2 py-1"
                onSubmit={(event) => {
                  event.preventDefault();
                  keep.mutate({ rig: rig.rig_id, zone: now.trim() || null });
                }}
              >
                <label htmlFor={`zone-${rig.rig_id}`} className="truncate" title={rig.name}>
                  {rig.name}
                </label>
                <input
                  id={`zone-${rig.rig_id}`}
                  list="zones"
                  value={now}
                  placeholder="as the site"
                  onChange={(e) => setTyped((t) => ({ ...t, [rig.rig_id]: e.target.value }))}
                  className="h-8 min-w-0 rounded-sm border border-rule bg-card px-2 placeholder:text-ink2"
                />
                <Button
                  type="submit"
                  disabled={now === (rig.time_zone ?? "") || keep.isPending}
                  aria-label={`Keep the time zone of ${rig.name}`}
                >
                  Keep
                </Button>
              </form>
            </li>
          );
        })}
      </ul>
      {keep.data && <p role="status">{keep.data.message}</p>}
      {keep.error ? <Trouble error={keep.error} /> : null}
    </details>
  );
}
