import { useSearchParams } from "react-router";

import { asked } from "../../api/client";
import { FrameSheet, useFrameSheet } from "../../parts/viewer/FrameSheet";
import { Viewer } from "../../parts/viewer/Viewer";

/** What is looked at closely in Intake: a frame or a set in the address, so that the way back closes it. */
export function useIntakeLooking() {
  const [params, setParams] = useSearchParams();
  const numbered = (name: string) => {
    const number = Number(params.get(name));
    return Number.isInteger(number) && number > 0 ? number : null;
  };
  const look = (name: "frame" | "set" | null, number = 0) =>
    setParams((old) => {
      const now = new URLSearchParams(old);
      now.delete("frame");
      now.delete("set");
      if (name) now.set(name, String(number));
      return now;
    });
  return { frame: numbered("frame"), set: numbered("set"), look };
}

/** Any frame, or the frames of a set, before anything is decided: the picture, its figures, its header. */
export function IntakeViewer({ frame, set, look }: ReturnType<typeof useIntakeLooking>) {
  const sheet = useFrameSheet(frame);
  const frames = asked.useQuery(
    "get",
    "/api/sets/{set_id}/frames",
    { params: { path: { set_id: set ?? 0 } } },
    { enabled: set !== null, retry: false },
  );
  const named = frames.data?.groups[0]?.frames.map((f) => ({ frame_id: f.frame_id, name: f.title })) ?? [];
  // Copies often have one name: where each lies tells them apart.
  if (set === null && sheet.data) named.push({ frame_id: sheet.data.id, name: sheet.data.path });
  const first = set !== null ? named[0]?.frame_id : frame;
  // Which one counts is seen at once: it stands beside its twin.
  const twin = set === null ? sheet.data?.twin?.frame_id : undefined;
  if (first === null || first === undefined || (frame !== null && !sheet.data && !sheet.error)) return null;
  return (
    <Viewer
      key={first}
      start={{ frame: first, how: "alone", other: twin }}
      frames={named}
      onClose={() => look(null)}
    >
      {(shown) => <FrameSheet frame={shown} />}
    </Viewer>
  );
}
