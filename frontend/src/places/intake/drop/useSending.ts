import { useRef, useState } from "react";

import { api, get } from "../../../api/client";
import { useChange } from "../../../api/hooks";
import { type Dropped, type Progress, sendAll, type Sent } from "./sending";

/** Files on their way to this machine: what was dropped, how far it is, what became of it. */
export function useSending() {
  const [dropped, setDropped] = useState<Dropped[]>([]);
  const [progress, setProgress] = useState<Progress | null>(null);
  const [done, setDone] = useState<Sent | null>(null);
  const [error, setError] = useState<unknown>(null);
  const stop = useRef<AbortController | null>(null);
  const scan = useChange((into: string) => get(api.POST("/api/sending/scan", { body: { into } })));
  const begin = async (into: string) => {
    const control = new AbortController();
    stop.current = control;
    setError(null);
    setDone(null);
    setProgress({ sentBytes: 0, wholeBytes: 1, now: "", files: 0 });
    try {
      const sent = await sendAll(into, dropped, control.signal, setProgress);
      setDone(sent);
      setDropped([]);
      if (sent.isNew > 0) scan.mutate(into);
    } catch (failed) {
      if (!control.signal.aborted) setError(failed);
    } finally {
      setProgress(null);
    }
  };
  return {
    dropped,
    progress,
    done,
    error: error ?? scan.error,
    take: (files: Dropped[]) => {
      setDone(null);
      setError(null);
      setDropped(files);
    },
    begin,
    stop: () => stop.current?.abort(),
  };
}
