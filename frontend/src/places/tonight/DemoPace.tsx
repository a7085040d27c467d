import { api, get } from "../../api/client";
import { useChange } from "../../api/hooks";
import { useHere } from "../../parts/context";

/** The demo says that its waits pass faster than real ones, and lets that be switched. */
export function DemoPace() {
  const { state } = useHere();
  const clock = useChange((fast: boolean) => get(api.POST("/api/clock", { body: { fast } })));
  if (state.rate === null) return null;
  return (
    <label className="flex items-center gap-2 text-s whitespace-nowrap text-ink2">
      <input
        type="checkbox"
        checked={clock.isPending ? clock.variables : state.fast}
        onChange={(event) => clock.mutate(event.target.checked)}
        className="accent-[var(--ink)]"
      />
      demo: waits pass {state.fast_rate} times as fast
    </label>
  );
}
