import { useState } from "react";
import { Link } from "react-router";

import { api, get, type Schemas } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { Button, Trouble } from "../../../parts/basics";
import { Degrees } from "../../../parts/Degrees";
import { type Data } from "./SkyRows";

/** Latitude and longitude, where nobody entered them yet; what headers tell stands there to be kept. */
export function Where({ rig, told }: { rig: number; told: Data["place_told"] }) {
  const site = useChange((body: Schemas["PlaceIn"]) =>
    get(api.PUT("/api/rigs/{rig_id}/place", { params: { path: { rig_id: rig } }, body })),
  );
  const [north, setNorth] = useState(told?.latitude.toString() ?? "");
  const [east, setEast] = useState(told?.longitude.toString() ?? "");
  const [latitude, longitude] = [north.trim(), east.trim()];
  return (
    <form
      className="flex max-w-[56ch] flex-col gap-3 border border-line bg-card px-8 py-8"
      onSubmit={(event) => {
        event.preventDefault();
        if (latitude && longitude) site.mutate({ latitude, longitude });
      }}
    >
      <h2 className="text-xl font-semibold">Where is the site?</h2>
      <p>The sun’s course over it tells when the sky suits each filter. To a tenth of a degree is enough.</p>
      <div className="grid grid-cols-[auto_1fr] items-center gap-x-3 gap-y-2">
        <label htmlFor="sky-north">Degrees north</label>
        <Degrees id="sky-north" value={north} onChange={setNorth} />
        <label htmlFor="sky-east">Degrees east</label>
        <Degrees id="sky-east" value={east} onChange={setEast} />
      </div>
      <p className="text-s text-ink2">
        South and west are negative. The clock that times are told by is set in{" "}
        <Link to="/intake" className="underline">
          Intake
        </Link>
        .
      </p>
      {told && <p>{told.text}</p>}
      <Button
        look="accent"
        large
        type="submit"
        className="self-start"
        disabled={!latitude || !longitude || site.isPending}
      >
        Keep the site
      </Button>
      {site.error && <Trouble error={site.error} />}
    </form>
  );
}
