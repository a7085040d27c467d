import {
  Combobox,
  ComboboxInput,
  ComboboxOption,
  ComboboxOptions,
  Listbox,
  ListboxButton,
  ListboxOption,
  ListboxOptions,
} from "@headlessui/react";
import { ChevronsUpDown } from "lucide-react";
import { useState } from "react";
import { NavLink, useLocation, useNavigate } from "react-router";

import type { Schemas } from "../api/client";
import { useSearch } from "../api/hooks";
import { useHere } from "./context";
import { Key, Segments } from "./basics";

type Found = Schemas["FoundOut"];

export const PLACES = [
  { path: "/tonight", name: "Tonight" },
  { path: "/shelf", name: "Shelf" },
  { path: "/nights", name: "Nights" },
  { path: "/bench", name: "Bench" },
  { path: "/intake", name: "Intake" },
  { path: "/rigs", name: "Rigs" },
] as const;

function Mark() {
  return (
    <svg width="30" height="26" aria-hidden className="text-ink">
      <path d="M0 9h7v14H0z" fill="var(--z5)" />
      <path d="M8 4h7v19H8z" fill="currentColor" opacity=".75" />
      <path d="M16 0h6v23h-6zM0 24h30v2H0z" fill="currentColor" />
      <path d="M24 23V8h5v15" fill="none" stroke="currentColor" strokeDasharray="2 1.5" />
    </svg>
  );
}

/** Which part of a place is open, by the names in its address. */
const PARTS = ["wall", "fill", "before", "view", "part", "proposed"];

/** The address of a place without what may be one rig's alone: the night, the card, the measurement that is looked at. */
function placeOf(pathname: string, search: string): string {
  const open = new URLSearchParams([...new URLSearchParams(search)].filter(([name]) => PARTS.includes(name)));
  const place = pathname.startsWith("/nights/") ? "/nights" : pathname;
  return open.size > 0 ? `${place}?${open.toString()}` : place;
}

function RigHolder() {
  const { state, rig, chooseRig } = useHere();
  const { pathname, search } = useLocation();
  if (!rig) return null;
  const choose = (id: number) => {
    if (id !== rig.id) chooseRig(id, placeOf(pathname, search));
  };
  return (
    <Listbox value={rig.id} onChange={choose}>
      <ListboxButton
        aria-label={`Rig: ${rig.name} ${rig.camera}`}
        className="flex h-10 w-[192px] items-center gap-2 rounded-sm border-2 border-rule p-1 text-left max-xl:w-[148px] max-md:w-auto max-md:max-w-full max-md:border"
      >
        <span className="flex h-full min-w-0 flex-1 items-center gap-2 bg-card px-2">
          <span className="narrow min-w-0 truncate font-semibold">{rig.name}</span>{" "}
          {/* Gives way first: most names leave room for it. */}
          <span className="narrow min-w-0 shrink-[99999] truncate text-s text-ink2 max-md:hidden">
            {rig.camera === rig.name ? "" : rig.camera}
          </span>
        </span>
        <ChevronsUpDown size={14} className="shrink-0" aria-hidden />
      </ListboxButton>
      <ListboxOptions
        anchor="bottom start"
        className="z-40 max-w-[min(560px,calc(100vw-32px))] min-w-[192px] border border-rule bg-card py-1 text-m text-ink focus:outline-none"
      >
        {state.rigs.map((r) => (
          <ListboxOption
            key={r.id}
            value={r.id}
            className="flex cursor-pointer items-baseline justify-between gap-4 px-3 py-1.5 data-focus:bg-board data-selected:font-semibold"
          >
            <span className={r.retired ? "text-ink2" : ""}>{r.name}</span>
            <span className="text-s font-normal text-ink2">{r.retired ? "retired" : r.camera}</span>
          </ListboxOption>
        ))}
      </ListboxOptions>
    </Listbox>
  );
}

/** The search: what is found stands below it; Enter opens what is marked, or the first for the word as it is now. */
function Search() {
  const [text, setText] = useState("");
  const { rig, chooseRig } = useHere();
  const navigate = useNavigate();
  const found = useSearch(text);
  const asked = text.trim().length > 1;
  const items = asked ? (found.data?.items ?? []) : [];
  const go = (item: Found | null | undefined) => {
    if (!item) return;
    setText("");
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
      <div className="relative max-lg:hidden">
        <ComboboxInput
          id="search"
          aria-label="Search frames, nights and targets"
          placeholder="Frame, night or target"
          autoComplete="off"
          displayValue={() => text}
          value={text}
          onChange={(event) => setText(event.target.value)}
          onKeyDown={(event) => {
            if (event.key === "Escape") event.currentTarget.blur();
            if (event.key === "Enter" && items.length === 0 && asked)
              void found.refetch().then((answer) => go(answer.data?.items[0]));
          }}
          className="h-8 w-[196px] rounded-sm border border-rule bg-card px-2.5 pr-8 placeholder:text-ink2"
        />
        <span className="pointer-events-none absolute top-1 right-2">
          <Key>/</Key>
        </span>
        {asked && (
          <ComboboxOptions className="absolute top-9 right-0 z-40 max-h-[440px] w-[380px] overflow-auto border border-rule bg-card py-1">
            {items.map((item) => (
              <ComboboxOption
                key={`${item.href}${item.title}`}
                value={item}
                className="flex w-full cursor-pointer items-baseline gap-2 px-3 py-1.5 text-left data-focus:bg-board"
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

function ThemeSwitch() {
  const [theme, setTheme] = useState(() => document.documentElement.dataset.theme ?? "day");
  return (
    <Segments
      label="Day or night"
      value={theme}
      options={[
        { value: "day", label: "Day" },
        { value: "night", label: "Night" },
      ]}
      onChange={(value) => {
        document.documentElement.dataset.theme = value;
        localStorage.setItem("theme", value);
        setTheme(value);
      }}
    />
  );
}

/** The rail: the mark, the rig holder, the places as index tabs, the search, day and night. */
export function Rail() {
  return (
    <header className="flex h-14 shrink-0 items-end border-b border-rule bg-board px-6 max-xl:px-4 max-md:h-12 max-md:items-center max-md:gap-3 max-md:px-4">
      <NavLink
        to="/tonight"
        aria-label="Gray Shelf"
        className="mr-8 flex h-14 items-center gap-2.5 text-l font-semibold whitespace-nowrap max-xl:mr-4 max-md:mr-0 max-md:h-auto"
        style={{ fontStretch: "92%" }}
      >
        <Mark />
        <span className="max-xl:hidden">Gray Shelf</span>
      </NavLink>
      <div className="mr-5 flex h-14 items-center max-xl:mr-4 max-md:mr-0 max-md:h-auto max-md:min-w-0 max-md:flex-1">
        <RigHolder />
      </div>
      <nav aria-label="Places" className="flex min-w-0 items-end gap-0.5 max-md:hidden">
        {PLACES.map((place, index) => (
          <NavLink
            key={place.path}
            to={place.path}
            className={({ isActive }) =>
              `-mb-px flex w-[92px] min-w-0 items-center gap-2 rounded-t-sm border border-b-0 px-3 max-xl:w-[78px] max-xl:justify-center max-xl:px-1 ${
                isActive
                  ? "h-[42px] border-rule bg-paper text-l font-semibold"
                  : "h-9 border-line text-ink2 hover:text-ink"
              }`
            }
          >
            <span className="num text-s text-ink2 max-xl:hidden">{index + 1}</span>
            {place.name}
          </NavLink>
        ))}
      </nav>
      <div className="ml-auto flex h-14 shrink-0 items-center gap-3 pl-3 max-md:h-auto">
        <Search />
        <ThemeSwitch />
      </div>
    </header>
  );
}
