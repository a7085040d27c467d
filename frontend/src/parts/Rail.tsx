import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/react";
import { ChevronsUpDown } from "lucide-react";
import { useState } from "react";
import { NavLink, useLocation } from "react-router";

import { useHere } from "./context";
import { Search } from "./Search";
import { Segments } from "./basics";

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
