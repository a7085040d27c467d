import { useState } from "react";
import { useSearchParams } from "react-router";

import type { Schemas } from "../../api/client";
import type { Circle } from "../../parts/viewer/Marks";
import { Viewer } from "../../parts/viewer/Viewer";
import type { Looked } from "../../parts/viewer/views";
import { circlesOf, ShadowList, type Dust } from "./Dust";

type CardData = Schemas["CardOut"];

/**
 * What is looked at closely: a frame in the address, so that a link leads to it and the way back closes it; and what it is
 * held against, while the card is open.
 */
export function useCardLooking() {
  const [params, setParams] = useSearchParams();
  const [held, setHeld] = useState<Pick<Looked, "how" | "other"> | null>(null);
  const asked = Number(params.get("look"));
  const frame = Number.isInteger(asked) && asked > 0 ? asked : null;
  const look = (next: number | null, against: Pick<Looked, "how" | "other"> | null = null) => {
    setHeld(against);
    setParams((old) => {
      const now = new URLSearchParams(old);
      if (next === null) now.delete("look");
      else now.set("look", String(next));
      return now;
    });
  };
  return { frame, held, look };
}

/** What came, went or moved since the master was made. */
const circlesOfHeld = (card: CardData): Circle[] =>
  (card.still_good?.held?.shadows ?? []).map(([x = 0, y = 0, diameter = 0, depth = 0]) => ({
    x,
    y,
    diameter,
    label: `${depth.toFixed(1)} %`,
    chosen: false,
  }));

/** Rings about the light's middle where it has fallen to so much of it. */
function ringsOf(dust: Dust): Circle[] {
  const { middle_x: x, middle_y: y, contours } = dust.light;
  if (x === null || y === null) return [];
  return contours.map(([percent = 0, radius = 0]) => ({
    x,
    y,
    diameter: 2 * radius,
    label: `${percent} %`,
    chosen: false,
    dashed: true,
  }));
}

/** A picture of the card as large as the window: the master, one of its frames, or what is left of two. */
export function CardViewer({
  card,
  looking,
  dust,
  speck,
  onSpeck,
}: {
  card: CardData;
  looking: ReturnType<typeof useCardLooking>;
  dust: Dust | undefined;
  speck: number | null;
  onSpeck: (number: number | null) => void;
}) {
  const { frame, held, look } = looking;
  const [rings, setRings] = useState(false);
  const can = dust ? ringsOf(dust) : [];
  if (frame === null) return null;
  const isHeld = held !== null && frame === card.still_good?.held?.frame_id;
  return (
    <Viewer
      key={frame}
      start={{ frame, how: "alone", ...held }}
      frames={card.frames}
      circles={isHeld ? circlesOfHeld(card) : [...circlesOf(dust, speck), ...(rings ? can : [])]}
      circlesOn={isHeld ? frame : dust?.frame_id}
      onClose={() => look(null)}
    >
      {isHeld && card.still_good?.held && (
        <section className="border-t border-line pt-2.5">
          <h3 className="narrow font-semibold">Still good?</h3>
          <p>
            {card.still_good.held.serves}: {card.still_good.held.line}.
          </p>
        </section>
      )}
      {!isHeld && can.length > 0 && (
        <section className="border-t border-line pt-2.5">
          <h3 className="narrow font-semibold">Light</h3>
          <p>{dust?.light.middle_text}</p>
          <label className="flex items-center gap-2 max-md:min-h-11">
            <input
              type="checkbox"
              className="accent-[var(--ink)]"
              checked={rings}
              onChange={(event) => setRings(event.target.checked)}
            />
            Rings where it has fallen to {can.map((ring) => ring.label.replace(" %", "")).join(", ")} %
          </label>
        </section>
      )}
      {!isHeld && dust && dust.shadows.length > 0 && (
        <section className="border-t border-line pt-2.5">
          <h3 className="narrow font-semibold">Dust</h3>
          <p>{dust.advice}</p>
          <ShadowList dust={dust} chosen={speck} onChoose={onSpeck} />
        </section>
      )}
    </Viewer>
  );
}
