import { useState } from "react";
import type { UseQueryResult } from "@tanstack/react-query";

import { asked, type Problem, type Schemas } from "../../api/client";
import { Button, Trouble, Waiting } from "../../parts/basics";
import { Pick } from "../../parts/Pick";
import { Viewer } from "../../parts/viewer/Viewer";
import type { Looked } from "../../parts/viewer/views";

type Correction = Schemas["CorrectionOut"];

const useCorrection = (set: number, frame: number | null) =>
  asked.useQuery(
    "get",
    "/api/lights/{set_id}/correction",
    { params: { path: { set_id: set }, query: frame === null ? {} : { frame } } },
    { retry: false, placeholderData: (before: Correction | undefined) => before },
  ) as UseQueryResult<Correction, Problem>;

/** The answer: the slope and its interval, what is left in the corners, what it means. */
function Answer({ data, onFrame }: { data: Correction; onFrame: (frame: number) => void }) {
  const wrong = data.corrects === "it corrects too little" || data.corrects === "it corrects too much";
  return (
    <section className="flex flex-col gap-2 border-t border-line pt-2.5" data-part="correction">
      <h3 className="narrow font-semibold">Does it correct?</h3>
      {data.corrects && (
        <p className={`text-l font-semibold ${wrong ? "text-accent" : ""}`}>
          {data.corrects[0]?.toUpperCase()}
          {data.corrects.slice(1)}
        </p>
      )}
      {data.slope_text && (
        <dl className="grid grid-cols-[auto_1fr] gap-x-4">
          <dt>Slope</dt>
          <dd className="num">{data.slope_text}</dd>
          {data.corner_text && (
            <>
              <dt>Left</dt>
              <dd className="num">{data.corner_text}</dd>
            </>
          )}
        </dl>
      )}
      <p>{data.meaning}</p>
      {data.lacking.length > 0 && <p>Note: {data.lacking.join("; ")}.</p>}
      <p className="text-ink2">
        {data.used && `With ${data.used}. `}The sky against the flat, stars and a gradient left out: at a
        slope of 0 nothing of the flat is left.
      </p>
      <Pick
        label="Light"
        value={data.frame_id}
        groups={[
          {
            title: "",
            options: data.lights.map((l) => ({
              value: l.frame_id,
              title: l.name,
              detail: l.rejected ? "not kept" : "",
            })),
          },
        ]}
        onChange={onFrame}
        wide
      />
    </section>
  );
}

/** A light as it was taken and as dark and flat correct it, side by side, with what is left of the flat. */
export function DoesItCorrect({ set, onClose }: { set: number; onClose: () => void }) {
  const [frame, setFrame] = useState<number | null>(null);
  const correction = useCorrection(set, frame);
  const data = correction.data;
  if (!data) {
    return (
      <div className="border-t border-line bg-card p-3">
        {correction.error ? (
          <Trouble error={correction.error} onRetry={() => void correction.refetch()} />
        ) : (
          <Waiting what="Calibrating a light" />
        )}
        <Button className="mt-2" onClick={onClose}>
          {correction.error ? "Close" : "Stop"}
        </Button>
      </div>
    );
  }
  const calibrated: Looked = {
    frame: data.frame_id,
    how: "calibrated",
    ...(data.dark_frame_id === null ? {} : { dark: data.dark_frame_id }),
    ...(data.flat_frame_id === null ? {} : { flat: data.flat_frame_id }),
    ...(data.bias_frame_id === null ? {} : { bias: data.bias_frame_id, share: data.dark_share }),
  };
  return (
    <Viewer
      key={data.frame_id}
      start={{ frame: data.frame_id, how: "alone" }}
      second={{ looked: calibrated, name: "calibrated" }}
      onClose={onClose}
    >
      <Answer data={data} onFrame={setFrame} />
    </Viewer>
  );
}
