import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";
import { Component, useMemo, useState, type ReactNode } from "react";
import { Navigate, Route, Routes, useLocation, useNavigate } from "react-router";

import { useAppState, useEvents, useJobs, useRefreshAfterWork } from "./api/hooks";
import { Key, Trouble, Waiting } from "./parts/basics";
import { HereContext } from "./parts/context";
import { PLACES, Rail } from "./parts/Rail";
import { goToSearch } from "./parts/Search";
import { Tray, TrayTab } from "./parts/Tray";
import { useKeys } from "./parts/useKeys";
import { useRigInHand } from "./parts/useRigInHand";
import { useSheetWishes } from "./parts/useSheetWishes";
import { Bench } from "./places/bench/Bench";
import { Intake } from "./places/intake/Intake";
import { FileAway } from "./places/intake/file/FileAway";
import { Other } from "./places/intake/other/Other";
import { Room } from "./places/intake/room/Room";
import { Mend } from "./places/intake/mend/Mend";
import { Nights } from "./places/nights/Nights";
import { Rigs } from "./places/rigs/Rigs";
import { Shelf } from "./places/shelf/Shelf";
import { Tonight } from "./places/tonight/Tonight";

const KEYS: [string, string][] = [
  ["1 – 6", "the places"],
  ["/", "search"],
  ["?", "this list"],
  ["Esc", "put a card or slip back"],
  ["← → ↑ ↓", "walk the shelf, the nights, the sets"],
  ["Enter", "pull"],
  ["[  ]", "step through frames, steps of a run, offsets, gains"],
  ["v", "look closely at the picture of a card"],
  ["+ −  0  m  x", "in a picture: nearer, further, all of it; marks; the other of two in turn"],
  ["Space", "pause a run, or let it go on"],
  [".", "work in progress"],
];

/** An error in one place must not take the others down. */
class Guard extends Component<{ children: ReactNode }, { error: unknown }> {
  override state = { error: null as unknown };
  static getDerivedStateFromError(error: unknown) {
    return { error };
  }
  override render() {
    if (this.state.error)
      return (
        <div className="p-6">
          <Trouble error={this.state.error} onRetry={() => this.setState({ error: null })} />
        </div>
      );
    return this.props.children;
  }
}

export function App() {
  const state = useAppState();
  const jobs = useJobs();
  useEvents();
  useRefreshAfterWork(jobs.data);
  const navigate = useNavigate();
  const [rigId, chooseRig] = useRigInHand(state.data?.rigs.map((r) => r.id) ?? []);
  const [tray, setTray] = useState(false);
  const [keys, setKeys] = useState(false);
  const { pathname } = useLocation();
  const rig = state.data?.rigs.find((r) => r.id === rigId) ?? null;
  const [wishes, setWishes] = useSheetWishes(rig?.id ?? 0, state.data?.night ?? "");
  useKeys({
    ...Object.fromEntries(PLACES.map((place, i) => [String(i + 1), () => navigate(place.path)])),
    "/": goToSearch,
    "?": () => setKeys(true),
    ".": () => setTray((open) => !open),
  });
  const here = useMemo(() => {
    if (!state.data) return null;
    return { state: state.data, rig, chooseRig, wishes, setWishes };
  }, [state.data, rig, chooseRig, wishes, setWishes]);
  if (!here) {
    return (
      <div className="p-6">
        {state.error ? (
          <Trouble error={state.error} onRetry={() => void state.refetch()} />
        ) : (
          <Waiting what="Opening the library" />
        )}
      </div>
    );
  }
  const start = here.state.rigs.length === 0 ? "/shelf" : "/tonight";
  return (
    <HereContext value={here}>
      <div className="flex h-full flex-col">
        <Rail />
        {here.state.left_out && (
          <p
            role="status"
            className="shrink-0 border-b border-l-4 border-b-rule border-l-accent bg-card px-6 py-2"
          >
            {here.state.left_out}
          </p>
        )}
        {/* Of each place its own: none begins where the one before was scrolled to. */}
        <main key={pathname.split("/")[1]} className="relative min-h-0 flex-1 overflow-auto">
          <Guard>
            <Routes>
              <Route path="/tonight" element={<Tonight key={here.rig?.id} />} />
              <Route path="/shelf" element={<Shelf key={here.rig?.id} />} />
              <Route path="/nights/:night?" element={<Nights key={here.rig?.id} />} />
              <Route path="/bench/:kind?" element={<Bench key={here.rig?.id} />} />
              <Route path="/intake" element={<Intake />} />
              <Route path="/intake/file" element={<FileAway />} />
              <Route path="/intake/mend" element={<Mend />} />
              <Route path="/intake/room" element={<Room />} />
              <Route path="/intake/other" element={<Other />} />
              <Route path="/rigs" element={<Rigs />} />
              <Route path="*" element={<Navigate to={start} replace />} />
            </Routes>
          </Guard>
        </main>
        <div className="hidden h-12 shrink-0 border-t border-rule bg-board max-md:flex">
          <nav aria-label="Places" className="flex flex-[6]">
            {PLACES.map((place) => (
              <button
                key={place.path}
                type="button"
                className="flex-1 text-m font-semibold aria-[current=page]:bg-paper"
                aria-current={pathname.startsWith(place.path) ? "page" : undefined}
                onClick={() => void navigate(place.path)}
              >
                {place.name}
              </button>
            ))}
          </nav>
          <TrayTab open={tray} onToggle={() => setTray(!tray)} look="flex-1 border-l text-m" />
        </div>
        <Tray open={tray} onToggle={() => setTray(!tray)} />
      </div>
      <Dialog open={keys} onClose={() => setKeys(false)} className="relative z-50">
        <div className="fixed inset-0 bg-[#0d0b09]/50" aria-hidden />
        <div className="fixed inset-0 flex items-center justify-center">
          <DialogPanel className="w-[420px] border border-rule bg-card p-6 text-ink">
            <DialogTitle className="pb-3 text-xl font-semibold">Keys</DialogTitle>
            <dl className="grid grid-cols-[120px_1fr] gap-y-2">
              {KEYS.map(([key, what]) => (
                <div key={key} className="contents">
                  <dt>
                    <Key>{key}</Key>
                  </dt>
                  <dd>{what}</dd>
                </div>
              ))}
            </dl>
          </DialogPanel>
        </div>
      </Dialog>
    </HereContext>
  );
}
