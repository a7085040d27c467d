import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";
import { useState, type ReactNode } from "react";

import { Button, Key, Segments, Trouble, Waiting } from "../basics";
import { useKeys } from "../useKeys";
import { Aside } from "./Aside";
import { Circles, LineMark, type Circle } from "./Marks";
import { Pane, type Under } from "./Pane";
import { useLooking, type Looking, type Named, type Second } from "./useLooking";
import type { Looked, View } from "./views";

/** The level under the pointer. */
function Reading({ under, view }: { under: Under | null; view: View }) {
  if (!under) return <span className="num text-ink2 max-md:hidden">{`${view.width} × ${view.height}`}</span>;
  const told = Number.isNaN(under.level) ? "no number" : `${under.level.toFixed(view.digits)} ${view.unit}`;
  return (
    <span className="num whitespace-nowrap">
      <span className="text-ink2 max-md:hidden">
        column {under.x}, row {under.y}
      </span>{" "}
      <span data-part="level">{told}</span>
      {under.of > 1 && (
        <span className="text-ink2">
          , mean of {under.of} × {under.of}
        </span>
      )}
    </span>
  );
}

/** One of the pictures, with its name where there are two, and what is marked on it. */
function Shown({
  looking,
  looked,
  view,
  label,
  circles,
  onUnder,
}: {
  looking: Looking;
  looked: Looked;
  view: View;
  label: string;
  circles: Circle[];
  onUnder: (under: Under | null) => void;
}) {
  const { line, setLine } = looking;
  return (
    <div className="relative flex min-h-0 min-w-0 flex-1 flex-col" data-pane={label}>
      <Pane
        looked={looked}
        view={view}
        sight={looking.sight}
        ends={looking.ends.of(view, looked.how)}
        name={label}
        onSight={looking.setSight}
        onUnder={onUnder}
        onPick={(pixel) => line && setLine({ ...line, x: Math.floor(pixel.x), y: Math.floor(pixel.y) })}
        marks={(place, scale) => (
          <>
            <Circles circles={circles} place={place} scale={scale} />
            {line && <LineMark line={line} picture={view} place={place} />}
          </>
        )}
      />
      {looking.other && (
        <span className="absolute top-2 left-2 max-w-[calc(100%-16px)] truncate bg-card px-2 py-0.5 text-s">
          {label}
        </span>
      )}
    </div>
  );
}

/** The one picture, the two beside each other, or one after the other. */
function Pictures({
  looking,
  beside,
  circles,
  onUnder,
}: {
  looking: Looking;
  beside: Second | null;
  circles: Circle[];
  onUnder: (under: Under | null) => void;
}) {
  const { main, view, other, otherView, inTurn, turned } = looking;
  if (!view.data) return null;
  const first = !turned && (
    <Shown
      looking={looking}
      looked={main}
      view={view.data}
      label={beside ? "as it was taken" : looking.name}
      circles={circles}
      onUnder={onUnder}
    />
  );
  const second = other && otherView.data && (!inTurn || turned) && (
    <Shown
      looking={looking}
      looked={other}
      view={otherView.data}
      label={beside?.name ?? otherView.data.name}
      circles={circles}
      onUnder={onUnder}
    />
  );
  return (
    <div className="flex min-h-0 min-w-0 flex-1 gap-px bg-line max-md:min-h-[50vh]">
      {first}
      {second}
      {other && otherView.error ? (
        <div className="flex-1 bg-paper p-6">
          <Trouble error={otherView.error} />
        </div>
      ) : null}
    </div>
  );
}

/** Of which of two pictures levels and lines are told. */
function Which({
  second,
  value,
  onChange,
}: {
  second: Second;
  value: "first" | "second";
  onChange: (value: "first" | "second") => void;
}) {
  return (
    <Segments
      label="Picture whose levels are told"
      value={value}
      options={[
        { value: "first", label: "as it was taken" },
        { value: "second", label: second.name },
      ]}
      onChange={onChange}
    />
  );
}

/**
 * A picture as large as the window: drawn near, its levels stretched, held against another.
 * What is chosen is kept while it is open; closing it changes nothing.
 */
export function Viewer({
  start,
  frames = [],
  second = null,
  circles = [],
  circlesOn,
  onClose,
  children,
}: {
  start: Looked;
  /** To step through. */
  frames?: Named[];
  second?: Second | null;
  circles?: Circle[];
  /** The frame that they lie on; undefined: all. */
  circlesOn?: number;
  onClose: () => void;
  /** What else is told beside the picture; of the one that is looked at, where it is asked for its number. */
  children?: ReactNode | ((frame: number) => ReactNode);
}) {
  const looking = useLooking(start, frames, second);
  const [under, setUnder] = useState<Under | null>(null);
  const [marked, setMarked] = useState(true);
  const [steer, setSteer] = useState<"first" | "second">(second ? "second" : "first");
  const { view, main } = looking;
  useKeys({ m: () => setMarked((on) => !on) });
  const more = typeof children === "function" ? children(main.frame) : children;
  const steered =
    steer === "second" && second && looking.otherView.data
      ? { looked: second.looked, view: looking.otherView.data }
      : { looked: main, view: view.data };
  const read = looking.turned ? looking.otherView.data : view.data;
  return (
    <Dialog open onClose={onClose} className="relative z-50">
      <DialogPanel className="fixed inset-0 flex flex-col bg-paper text-ink" data-part="viewer">
        <div className="flex h-12 shrink-0 items-center gap-4 border-b border-line px-4 max-md:h-14 max-md:gap-2 max-md:px-2">
          <DialogTitle className="truncate text-l font-semibold max-md:flex-1">
            {view.data?.title ?? (view.error ? "A picture" : "Opening")}
          </DialogTitle>
          <span className="min-w-0 flex-1 truncate text-ink2 max-md:hidden">{looking.name}</span>
          {read && <Reading under={under} view={read} />}
          <Button
            disabled={looking.sight === null}
            className="max-md:hidden"
            onClick={() => looking.setSight(null)}
          >
            See all of it <Key>0</Key>
          </Button>
          {circles.length > 0 && view.data && (
            <Button aria-pressed={marked} onClick={() => setMarked(!marked)}>
              {marked ? "Hide" : "Show"} the marks{" "}
              <span className="max-md:hidden">
                <Key>m</Key>
              </span>
            </Button>
          )}
          <Button onClick={onClose}>
            Close{" "}
            <span className="max-md:hidden">
              <Key>Esc</Key>
            </span>
          </Button>
        </div>
        <div className="flex min-h-0 flex-1 max-md:flex-col max-md:overflow-auto">
          {view.error ? (
            <div className="flex-1 overflow-auto p-6">
              <Trouble error={view.error} onRetry={() => void view.refetch()} />
              <div className="max-w-[560px] pt-4">{more}</div>
            </div>
          ) : null}
          {!view.data && !view.error && (
            <div className="flex-1">
              <Waiting what="Opening the picture" />
            </div>
          )}
          <Pictures
            looking={looking}
            beside={second}
            circles={marked && (circlesOn === undefined || circlesOn === main.frame) ? circles : []}
            onUnder={setUnder}
          />
          {view.data && steered.view && (
            <Aside
              which={second && <Which second={second} value={steer} onChange={setSteer} />}
              looked={steered.looked}
              view={steered.view}
              ends={looking.ends.of(steered.view, steered.looked.how)}
              onEnds={(ends) => steered.view && looking.ends.set(steered.view, steered.looked.how, ends)}
              colours={view.data.colours}
              onColour={looking.chooseColour}
              held={looking.held && { ...looking.held, turn: looking.turn }}
              line={looking.line}
              onLine={looking.setLine}
            >
              {more}
            </Aside>
          )}
        </div>
      </DialogPanel>
    </Dialog>
  );
}
