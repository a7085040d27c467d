import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";

import { api, get, type Schemas } from "../../api/client";
import { useCard, useChange } from "../../api/hooks";
import { Button, Figure, Key, Trouble, Waiting } from "../../parts/basics";
import { copyText } from "../../parts/copyText";
import { FilterStamp } from "../../parts/FilterStamp";
import { FrameView, Picture } from "../../parts/FrameView";
import { Ruler } from "../../parts/Ruler";
import { ageFill, ageInk } from "../../parts/Spine";
import { useKeys } from "../../parts/useKeys";
import { useStepKeys } from "../../parts/useStepKeys";
import { atRig } from "../../parts/useRigInHand";
import { CombineAnew } from "./CombineAnew";
import { CardViewer, useCardLooking } from "./CardViewer";
import { DustOnCard, useDust } from "./Dust";
import { Enough } from "./Enough";
import { Findings, PlaceOnPicture, type Finding } from "./Findings";
import { FrameStrip } from "./FrameStrip";
import { LightFall } from "./LightFall";
import { StillGood } from "./StillGood";

type CardData = Schemas["CardOut"];

const WIDTH = 632;

function Serves({ card }: { card: CardData }) {
  return (
    <section className="border-t border-line pt-3">
      <h3 className="narrow font-semibold">
        {card.serves.length === 0
          ? "No lights use it"
          : `Lights that use it: ${card.n_lights} of ${new Set(card.serves.map((s) => s.night)).size} ${new Set(card.serves.map((s) => s.night)).size === 1 ? "night" : "nights"}`}
      </h3>
      <ul className="max-h-[132px] overflow-auto">
        {card.serves.map((served) => (
          <li key={served.set_id}>
            <Link
              to={atRig(`/nights/${served.night}?set=${served.set_id}`, served.rig_id)}
              className="grid grid-cols-[60px_80px_56px_104px_1fr_auto] items-center max-md:grid-cols-[60px_1fr_auto] max-md:py-2 py-0.5 hover:bg-board"
            >
              <span className="num text-s">{served.night_title}</span>
              <span className="truncate">{served.target}</span>
              <span>
                {served.filter_code && <FilterStamp code={served.filter_code} nm={served.passband_nm} />}
              </span>
              <span className="num text-s">{served.text}</span>
              <span className="text-s text-ink2">{served.verdict}</span>
              {served.ruler && <Ruler ruler={served.ruler} />}
            </Link>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Picture of the master, or of one of its frames: [ and ] step through them. */
function Pictures({
  card,
  step,
  setStep,
  place,
  looking,
  onLook,
}: {
  card: CardData;
  step: number;
  setStep: (step: number) => void;
  place: Finding["place"];
  /** Whether a picture is looked at closely meanwhile. */
  looking: boolean;
  onLook: (frameId: number) => void;
}) {
  const frames = card.frames;
  useStepKeys((by) => !looking && setStep(Math.min(Math.max(0, step + by), frames.length - 1)));
  useKeys({ v: () => frames[step] && onLook(frames[step].frame_id) });
  const shown = frames[step];
  if (!card.picture || !shown) {
    return (
      <p className="flex h-[196px] items-center bg-board p-4 text-ink2">
        {card.picture_trouble || "No picture."}
      </p>
    );
  }
  return (
    <div>
      <button
        type="button"
        className="relative block w-full cursor-zoom-in text-left"
        aria-label={`Look closely at ${step === 0 ? card.title : shown.name}`}
        onClick={() => onLook(shown.frame_id)}
      >
        {step === 0 ? (
          <FrameView picture={card.picture} alt={`Picture of ${card.title}`}>
            {place && <PlaceOnPicture place={place} />}
          </FrameView>
        ) : (
          <Picture
            src={`/api/frames/${shown.frame_id}/picture.png?size=640`}
            alt={`Picture of ${shown.name}`}
            style={{ aspectRatio: `${card.picture.width} / ${card.picture.height}` }}
          />
        )}
      </button>
      <p className="mt-1 flex items-center gap-1 text-s text-ink2">
        <button type="button" className="h-6 shrink-0" onClick={() => onLook(shown.frame_id)}>
          <Key>v</Key> <span className="underline">look closely</span>
        </button>
      </p>
      {frames.length > 1 && (
        <p className="mt-1 flex items-center gap-1 text-s text-ink2">
          <button
            type="button"
            className="h-6"
            aria-label="Frame before"
            onClick={() => setStep(Math.max(0, step - 1))}
          >
            <Key>[</Key>
          </button>
          <button
            type="button"
            className="h-6"
            aria-label="Frame after"
            onClick={() => setStep(Math.min(frames.length - 1, step + 1))}
          >
            <Key>]</Key>
          </button>
          <span className="truncate">{step === 0 && card.spine.is_master ? "the master" : shown.name}</span>
        </p>
      )}
    </div>
  );
}

/** The card of a spine: its left edge is the spine that was pulled. */
export function Card({ id, near, onClose }: { id: number; near: number; onClose: () => void }) {
  const card = useCard(id);
  const panel = useRef<HTMLDivElement>(null);
  const change = useChange(({ where }: { where: "off" | "back" }) =>
    get(api.POST("/api/holdings/{set_id}/shelve/{where}", { params: { path: { set_id: id, where } } })),
  );
  const build = useChange(() => get(api.POST("/api/builds", { body: { set_ids: [id] } })));
  const [copied, setCopied] = useState(false);
  const [step, setStep] = useState(0);
  const [where, setWhere] = useState<number | null>(null);
  const looking = useCardLooking();
  const [speck, setSpeck] = useState<number | null>(null);
  const hasDust = card.data?.spine.kind === "flat" && card.data.spine.is_master && !card.data.empty;
  const dust = useDust(id, hasDust);
  useEffect(() => panel.current?.focus(), [id]);
  useKeys({ Escape: () => looking.frame === null && onClose() });
  const left = Math.max(24, Math.min(near, window.innerWidth - WIDTH - 24));
  const data = card.data;
  const age = data?.spine.age_step ?? 0;
  const look = (frameId: number) => {
    const at = data?.frames.findIndex((f) => f.frame_id === frameId) ?? -1;
    if (at >= 0) setStep(at);
  };
  return (
    <div
      ref={panel}
      role="dialog"
      aria-label={data?.title ?? "Card"}
      tabIndex={-1}
      className="fixed top-16 bottom-4 z-30 flex border border-line bg-card outline-none max-md:inset-0! max-md:z-50 max-md:w-full!"
      style={{
        left,
        width: WIDTH,
        boxShadow: "0 18px 40px -12px rgba(11,9,7,.42), 0 2px 6px rgba(11,9,7,.18)",
      }}
    >
      <div
        className="flex w-11 shrink-0 flex-col items-center justify-between py-2 max-md:w-7"
        style={{ background: ageFill(age), color: ageInk(age), boxShadow: "inset -1px 0 0 var(--line)" }}
      >
        <span className="num border-b border-current text-m font-medium">{data?.spine.frames_text}</span>
        <span className="spine-type text-m font-semibold whitespace-nowrap [writing-mode:vertical-rl]">
          {data && [data.spine.title, data.spine.gain_text, data.spine.date].filter(Boolean).join("  ")}
        </span>
      </div>
      <div className="flex min-w-0 flex-1 flex-col gap-2.5 overflow-auto px-5 py-3 max-md:px-4">
        {card.error ? <Trouble error={card.error} onRetry={() => void card.refetch()} /> : null}
        {!data && !card.error && <Waiting what="Pulling the card" />}
        {data && (
          <>
            <div className="flex items-start justify-between gap-4">
              <div>
                <h2 className="text-xl font-semibold">{data.title}</h2>
                <p className="text-ink2">{data.subtitle}</p>
              </div>
              <Button onClick={onClose}>
                Put back{" "}
                <span className="max-md:hidden">
                  <Key>Esc</Key>
                </span>
              </Button>
            </div>
            {data.spine.care.length > 0 && (
              <p className="border-l-4 border-accent pl-3">
                {data.empty ? "Serves no lights" : "Use with care"}: {data.spine.care.join("; ")}.
              </p>
            )}
            <div className="grid grid-cols-[292px_minmax(0,1fr)] gap-5 max-md:grid-cols-1">
              <Pictures
                card={data}
                step={step}
                setStep={setStep}
                looking={looking.frame !== null}
                onLook={looking.look}
                place={where === null ? null : (data.findings[where]?.place ?? null)}
              />
              <div>
                <dl className="flex flex-col gap-0.5">
                  {data.figures.map((figure) => (
                    <Figure key={figure.name} {...figure} />
                  ))}
                  {data.noise.map((figure) => (
                    <Figure key={figure.name} {...figure} />
                  ))}
                </dl>
                {data.spine.is_master && !data.empty && data.figures.length > 0 && (
                  <p className="pt-1.5 text-s text-ink2">
                    Where hot and cold pixels are:{" "}
                    <a className="underline" href={`/api/holdings/${id}/defects.csv`}>
                      CSV
                    </a>{" "}
                    <a className="underline" href={`/api/holdings/${id}/defects.fits`}>
                      FITS
                    </a>
                  </p>
                )}
              </div>
            </div>
            <Findings
              findings={data.findings}
              checked={data.checked}
              frames={data.inputs.length}
              shown={where}
              onShow={(index) => {
                setWhere(index);
                setStep(0);
              }}
            />
            {hasDust && (
              <DustOnCard
                looked={dust}
                chosen={speck}
                onChoose={setSpeck}
                onShow={() => data.frames[0] && looking.look(data.frames[0].frame_id)}
              />
            )}
            {dust.dust.data && (
              <LightFall
                dust={dust.dust.data}
                onCompare={(other) => looking.look(dust.dust.data?.frame_id ?? null, { how: "over", other })}
              />
            )}
            {data.still_good && (
              <StillGood
                id={id}
                held={data.still_good}
                onSee={(fresh) =>
                  looking.look(fresh, {
                    how: data.spine.kind === "flat" ? "over" : "minus",
                    other: data.still_good?.held?.own_frame_id,
                  })
                }
              />
            )}
            <FrameStrip
              card={data}
              looked={step === 0 ? null : (data.frames[step]?.frame_id ?? null)}
              onLook={look}
            />
            {data.enough && <Enough enough={data.enough} frames={data.spine.frames} />}
            <section className="border-t border-line pt-3">
              <h3 className="narrow font-semibold">Settings</h3>
              <dl className="grid grid-cols-4 gap-x-6 gap-y-1 max-md:grid-cols-2">
                {data.settings.map((figure) => (
                  <div key={figure.name}>
                    <dt className="narrow text-s text-ink2">{figure.name}</dt>
                    <dd className="num whitespace-nowrap">
                      {figure.text}
                      <span className="text-ink2">
                        {figure.unit === "°" ? "°" : figure.unit && `\u2009${figure.unit}`}
                      </span>
                    </dd>
                  </div>
                ))}
              </dl>
              <p className="pt-2 text-s text-ink2">{data.made}</p>
            </section>
            <Serves card={data} />
            <div className="sticky -bottom-3 mt-auto -mb-3 flex flex-wrap items-center gap-2 border-t border-line bg-card py-2.5">
              {data.can_remake && <CombineAnew id={id} pending={data.pending} few={data.few_frames} />}
              {data.can_build && (
                <Button look="ink" disabled={build.isPending} onClick={() => build.mutate(undefined)}>
                  Combine {data.spine.frames} frames into a master
                </Button>
              )}
              <Button
                title={data.file}
                onClick={() => {
                  void copyText(data.file).then(setCopied);
                }}
              >
                {copied ? "Path copied" : "Copy the file’s path"}
              </Button>
              <Button
                look="link"
                className="ml-auto"
                onClick={() => change.mutate({ where: data.taken_off ? "back" : "off" })}
              >
                {data.taken_off ? "Put it back on the shelf" : "Take off the shelf"}
              </Button>
            </div>
            {build.error ? <Trouble error={build.error} /> : null}
            {change.error ? <Trouble error={change.error} /> : null}
            <CardViewer
              card={data}
              looking={looking}
              dust={dust.dust.data}
              speck={speck}
              onSpeck={setSpeck}
            />
          </>
        )}
      </div>
    </div>
  );
}
