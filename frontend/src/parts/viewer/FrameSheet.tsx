import { useState } from "react";

import { asked, type Schemas } from "../../api/client";
import { SaveLinks } from "../SaveLinks";

type Sheet = Schemas["FrameSheetOut"];

export const useFrameSheet = (frame: number | null) =>
  asked.useQuery(
    "get",
    "/api/frames/{frame_id}/sheet",
    { params: { path: { frame_id: frame ?? 0 } } },
    { enabled: frame !== null, retry: false },
  );

/** Cards of the header, all of them or those with a word. */
function Header({ sheet }: { sheet: Sheet }) {
  const [word, setWord] = useState("");
  const wanted = word.trim().toLowerCase();
  const shown = sheet.cards.filter(
    (c) => !wanted || `${c.keyword} ${c.value} ${c.comment}`.toLowerCase().includes(wanted),
  );
  return (
    <section className="border-t border-line pt-2.5" aria-label="Header">
      <div className="flex items-center justify-between gap-2">
        <h3 className="narrow font-semibold">Header</h3>
        {sheet.cards.length > 0 && (
          <SaveLinks name="header" files={[{ label: "CSV", href: `/api/frames/${sheet.id}/header.csv` }]} />
        )}
      </div>
      {sheet.trouble && <p className="text-accent">{sheet.trouble}</p>}
      {sheet.cards.length > 0 && (
        <>
          <input
            type="search"
            value={word}
            placeholder="keyword or value"
            aria-label="Find in the header"
            onChange={(event) => setWord(event.target.value)}
            className="mt-1 h-8 w-full rounded-sm border border-rule bg-card px-2 placeholder:text-ink2 max-md:h-11"
          />
          <dl className="num mt-1 max-h-72 overflow-auto text-s">
            {shown.map((c, index) => (
              <div
                key={`${c.keyword} ${index}`}
                className="grid grid-cols-[76px_1fr] gap-x-2 border-b border-line py-0.5"
                title={c.comment}
              >
                <dt className="text-ink2 [overflow-wrap:anywhere]">{c.keyword}</dt>
                <dd className="[overflow-wrap:anywhere]">{c.value}</dd>
              </div>
            ))}
            {shown.length === 0 && <p className="py-1 text-ink2">No card has it.</p>}
          </dl>
        </>
      )}
    </section>
  );
}

/** All that is known of a frame: where it lies, what was read of it and from where, its header. */
export function FrameSheet({ frame }: { frame: number }) {
  const sheet = useFrameSheet(frame).data;
  if (!sheet) return null;
  return (
    <>
      <section className="border-t border-line pt-2.5" aria-label="What is known of it">
        <h3 className="narrow font-semibold">What is known of it</h3>
        {sheet.reason && (
          <p className="[overflow-wrap:anywhere]">
            {sheet.reason} <span className="text-ink2">{sheet.advice}</span>
          </p>
        )}
        {sheet.twin && (
          <p className="mt-1 border-l-4 border-rule pl-2">
            <span className="num text-s break-all">{sheet.twin.title}</span> {sheet.twin.detail}.
          </p>
        )}
        <dl className="mt-1">
          {sheet.values.map((v) => (
            <div key={v.word} className="grid grid-cols-[96px_1fr] gap-x-2 border-b border-line py-0.5">
              <dt className="text-ink2">{v.word}</dt>
              <dd>
                {v.value || <span className="text-ink2">not known</span>}
                {v.origin && <span className="text-s text-ink2"> from {v.origin}</span>}
              </dd>
            </div>
          ))}
        </dl>
        <p className="num pt-1 text-s break-all text-ink2">
          {sheet.path}, {sheet.size_text}
        </p>
      </section>
      <Header sheet={sheet} />
    </>
  );
}
