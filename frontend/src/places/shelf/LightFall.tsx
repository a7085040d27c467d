import type { Dust } from "./Dust";

/** How the light falls on a flat: from its middle outwards, in its corners, and what changed since the last. */
export function LightFall({ dust, onCompare }: { dust: Dust; onCompare: (frame: number) => void }) {
  const { light, change } = dust;
  const names = ["upper left", "upper right", "lower left", "lower right"];
  return (
    <section className="border-t border-line pt-3" data-part="light-fall">
      <h3 className="narrow font-semibold">Light</h3>
      <div className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-8">
        <table className="self-start whitespace-nowrap">
          <caption className="narrow text-left text-s text-ink2">to the corner; light</caption>
          <tbody>
            {light.rings.map(([way, percent]) => (
              <tr key={way}>
                <td className="num pr-4 text-right whitespace-nowrap">{way} %</td>
                <td className="num text-right whitespace-nowrap">{percent?.toFixed(1)} %</td>
              </tr>
            ))}
          </tbody>
        </table>
        <div>
          <p>{light.middle_text}</p>
          <p className="text-ink2">
            Corners:{" "}
            {light.corners.map((corner, i) => `${names[i]}\u00a0${corner.toFixed(1)}\u2009%`).join(", ")}
          </p>
          {change && (
            <p>
              Since the flat of {change.since}: <span className="num">{change.text}</span>{" "}
              <button type="button" className="underline" onClick={() => onCompare(change.frame_id)}>
                See what changed
              </button>
            </p>
          )}
        </div>
      </div>
    </section>
  );
}
