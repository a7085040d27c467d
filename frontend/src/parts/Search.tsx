import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from "@headlessui/react";
import { Search as SearchIcon, X } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router";

import type { Schemas } from "../api/client";
import { useSearch } from "../api/hooks";
import { useHere } from "./context";
import { Key } from "./basics";

type Found = Schemas["FoundOut"];

/** Put the cursor into the search, wherever it stands. */
export function goToSearch() {
  const input = document.getElementById("search");
  if (input?.getClientRects().length) input.focus();
  else document.getElementById("open-search")?.click();
}

/** The search: what is found stands below it; Enter opens what is marked, or the first for the word as it is now. */
export function Search() {
  const [text, setText] = useState("");
  const [open, setOpen] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  useEffect(() => {
    if (open) input.current?.focus();
  }, [open]);
  const { rig, chooseRig } = useHere();
  const navigate = useNavigate();
  const found = useSearch(text);
  const asked = text.trim().length > 1;
  const items = asked ? (found.data?.items ?? []) : [];
  const go = (item: Found | null | undefined) => {
    if (!item) return;
    setText("");
    setOpen(false);
    (document.activeElement as HTMLElement | null)?.blur();
    // What another rig has is seen there.
    const [other] = item.rig_ids;
    if (rig && other !== undefined && !item.rig_ids.includes(rig.id)) chooseRig(other, item.href);
    else void navigate(item.href);
  };
  const choose = (item: Found | null) => {
    // What stands in the list may still answer an earlier word.
    if (found.isPlaceholderData) void found.refetch().then((answer) => go(answer.data?.items[0]));
    else go(item);
  };
  return (
    <Combobox value={null} onChange={choose}>
      {/* Where the rail has no room for it, it is opened below the rail. */}
      <button
        id="open-search"
        type="button"
        aria-label="Search"
        aria-expanded={open}
        onClick={() => setOpen((o) => !o)}
        className="flex h-9 w-9 items-center justify-center rounded-sm text-ink2 hover:text-ink max-md:h-11 max-md:w-11 lg:hidden"
      >
        {open ? <X size={20} aria-hidden /> : <SearchIcon size={20} aria-hidden />}
      </button>
      <div
        className={`lg:relative ${open ? "max-lg:fixed max-lg:inset-x-0 max-lg:top-14 max-lg:z-40 max-lg:border-b max-lg:border-rule max-lg:bg-board max-lg:p-3 max-md:top-12" : "max-lg:hidden"}`}
      >
        <ComboboxInput
          id="search"
          ref={input}
          aria-label="Search frames, nights and targets"
          placeholder="Frame, night or target"
          autoComplete="off"
          displayValue={() => text}
          value={text}
          onChange={(event) => setText(event.target.value)}
          onKeyDown={(event) => {
            if (event.key === "Escape") {
              event.currentTarget.blur();
              setOpen(false);
            }
            if (event.key === "Enter" && items.length === 0 && asked)
              void found.refetch().then((answer) => go(answer.data?.items[0]));
          }}
          className="h-8 w-[196px] rounded-sm border border-rule bg-card px-2.5 pr-8 placeholder:text-ink2 max-lg:h-11 max-lg:w-full"
        />
        <span className="pointer-events-none absolute top-1 right-2 max-lg:hidden">
          <Key>/</Key>
        </span>
        {asked && (
          <ComboboxOptions className="z-40 max-h-[440px] overflow-auto border border-rule bg-card py-1 max-lg:max-h-[60dvh] lg:absolute lg:top-9 lg:right-0 lg:w-[380px]">
            {items.map((item) => (
              <ComboboxOption
                key={`${item.href}${item.title}`}
                value={item}
                className="flex w-full cursor-pointer items-baseline gap-2 px-3 py-1.5 text-left data-focus:bg-board max-md:min-h-11 max-md:flex-wrap max-md:items-center max-md:gap-y-0"
              >
                <span className="min-w-0 flex-1 truncate">{item.title}</span>
                <span className="shrink-0 text-s text-ink2">
                  {item.kind}, {item.detail}
                </span>
              </ComboboxOption>
            ))}
            {found.isFetched && items.length === 0 && (
              <p className="px-3 py-2 text-ink2">Nothing is called that.</p>
            )}
          </ComboboxOptions>
        )}
      </div>
    </Combobox>
  );
}
