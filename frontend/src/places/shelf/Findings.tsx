import type { Schemas } from "../../api/client";

export type Finding = Schemas["FindingOfMasterOut"];

/** What was found wrong: name, size, sentence, what to do; a press shows where on the picture. */
export function Findings({
  findings,
  checked,
  frames,
  shown,
  onShow,
}: {
  findings: Finding[];
  checked: boolean;
  /** Frames that it was made of, where they are known. */
  frames: number;
  /** The one whose place is drawn. */
  shown: number | null;
  onShow: (index: number | null) => void;
}) {
  if (!checked) return null;
  if (findings.length === 0) {
    return (
      <p className="border-t border-line pt-2 text-ink2">
        Looked at: nothing is wrong with it{frames > 0 && " or its frames"}.
      </p>
    );
  }
  return (
    <section className="border-t border-line pt-3">
      <h3 className="narrow font-semibold">Found</h3>
      <ul>
        {findings.map((finding, index) => (
          <li
            key={`${finding.fault} ${index}`}
            className="grid grid-cols-[150px_1fr] gap-x-3 max-md:grid-cols-1 border-b border-line py-1.5 last:border-b-0"
          >
            <span>
              <span className="block font-semibold">
                {finding.fault[0]?.toUpperCase()}
                {finding.fault.slice(1)}
              </span>
              <span className="num">{finding.size_text}</span>
            </span>
            <span>
              {finding.message} <span className="text-ink2">{finding.advice}</span>
              {finding.place && (
                <button
                  type="button"
                  aria-pressed={shown === index}
                  className="ml-2 font-semibold underline"
                  onClick={() => onShow(shown === index ? null : index)}
                >
                  {shown === index ? "Hide where" : "Show where"}
                </button>
              )}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The part of a picture that a finding is about. */
export function PlaceOnPicture({ place }: { place: NonNullable<Finding["place"]> }) {
  const percent = (share: number) => `${100 * share}%`;
  return (
    <span
      aria-hidden
      className="pointer-events-none absolute border-2 border-accent"
      style={{
        left: percent(place.left),
        top: percent(place.top),
        width: percent(place.width),
        height: percent(place.height),
      }}
    />
  );
}
