import { api, get } from "../../api/client";
import { useChange } from "../../api/hooks";
import { useHere } from "../../parts/context";

/** Start tonight's sheet as it was chosen: with the rig, or by hand with a folder that is watched. */
export function useStart(rigId: number) {
  const { wishes } = useHere();
  return useChange((by: { hand: boolean; folder: string | null }) =>
    get(
      api.POST("/api/runs", {
        body: {
          rig_id: rigId,
          frames: wishes.frames,
          leave_out: wishes.leave_out,
          add: wishes.add,
          go: wishes.go ?? null,
          until: wishes.until?.trim() || null,
          sensor_then: wishes.sensor ?? "kept cold",
          by_hand: by.hand,
          folder: by.folder,
        },
      }),
    ),
  );
}
