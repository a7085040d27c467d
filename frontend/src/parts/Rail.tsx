import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/react";
import { ChevronsUpDown } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { NavLink, useNavigate } from "react-router";

import { useSearch } from "../api/hooks";
import { useHere } from "./context";
import { Key, Segments } from "./basics";

export const PLACES = [
  { path: "/tonight", name: "Tonight" },
  { path: "/shelf", name: "Shelf" },
  { path: "/nights", name: "Nights" },
  { path: "/bench", name: "Bench" },
  { path: "/intake", name: "Intake" },
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

function RigHolder() {
  const { state, rig, chooseRig } = useHere();
  if (!rig) return null;
  return (
    <Listbox value={rig.id} onChange={chooseRig}>
      <ListboxButton
        aria-label={`Rig: ${rig.name}, ${rig.camera}`}
        className="flex h-10 w-[192px] items-center gap-2 rounded-sm border-2 border-rule p-1 text-left max-md:h-8 max-md:w-auto max-md:border"
      >
        <span className="flex h-full min-w-0 flex-1 items-center gap-2 bg-card px-2">
          <span className="narrow shrink-0 font-semibold">{rig.name}</span>
          <span className="narrow truncate text-s text-ink2 max-md:hidden">{rig.camera}</span>
        </span>
        <ChevronsUpDown size={14} aria-hidden />
      </ListboxButton>
      <ListboxOptions
        anchor="bottom start"
        className="z-40 min-w-[192px] border border-rule bg-card py-1 text-m text-ink focus:outline-none"
      >
        {state.rigs.map((r) => (
          <ListboxOption
            key={r.id}
            value={r.id}
            className="flex cursor-pointer items-baseline justify-between gap-4 px-3 py-1.5 data-focus:bg-board data-selected:font-semibold"
          >
            <span>{r.name}</span>
            <span className="text-s font-normal text-ink2">{r.camera}</span>
          </ListboxOption>
        ))}
      </ListboxOptions>
    </Listbox>
  );
}

function Search() {
  const [text, setText] = useState("");
  const [open, setOpen] = useState(false);
  const [chosen, setChosen] = useState(0);
  const navigate = useNavigate();
  const found = useSearch(text);
  const items = text.trim().length > 1 ? (found.data?.items ?? []) : [];
  const box = useRef<HTMLDivElement>(null);
  const go = (href: string) => {
    setOpen(false);
    setText("");
    (document.activeElement as HTMLElement | null)?.blur();
    void navigate(href);
  };
  useEffect(() => {
    const away = (event: MouseEvent) => {
      if (!box.current?.contains(event.target as Node)) setOpen(false);
    };
    document.addEventListener("mousedown", away);
    return () => document.removeEventListener("mousedown", away);
  }, []);
  return (
    <div ref={box} className="relative max-lg:hidden">
      <input
        id="search"
        role="combobox"
        aria-expanded={open && items.length > 0}
        aria-controls="search-found"
        aria-label="Search frames, nights and targets"
        placeholder="Frame, night or target"
        autoComplete="off"
        value={text}
        onFocus={() => setOpen(true)}
        onChange={(event) => {
          setText(event.target.value);
          setChosen(0);
          setOpen(true);
        }}
        onKeyDown={(event) => {
          if (event.key === "ArrowDown") setChosen((c) => Math.min(c + 1, items.length - 1));
          else if (event.key === "ArrowUp") setChosen((c) => Math.max(c - 1, 0));
          else if (event.key === "Enter") {
            // What stands in the list may still answer an earlier word: Enter is for the one that is written now.
            const item = found.isPlaceholderData ? undefined : items[chosen];
            if (item) go(item.href);
            else
              void found.refetch().then((answer) => {
                const first = answer.data?.items[0];
                if (first) go(first.href);
              });
          } else if (event.key === "Escape") {
            setOpen(false);
            event.currentTarget.blur();
          } else return;
          event.preventDefault();
        }}
        className="h-8 w-[196px] rounded-sm border border-rule bg-card px-2.5 pr-8 placeholder:text-ink2"
      />
      <span className="pointer-events-none absolute top-1 right-2">
        <Key>/</Key>
      </span>
      {open && text.trim().length > 1 && (
        <ul
          id="search-found"
          role="listbox"
          className="absolute top-9 right-0 z-40 max-h-[440px] w-[380px] overflow-auto border border-rule bg-card py-1"
        >
          {items.map((item, index) => (
            <li key={`${item.href}${item.title}`} role="option" aria-selected={index === chosen}>
              <button
                type="button"
                tabIndex={-1}
                onClick={() => go(item.href)}
                onMouseEnter={() => setChosen(index)}
                className={`flex w-full items-baseline gap-2 px-3 py-1.5 text-left ${index === chosen ? "bg-board" : ""}`}
              >
                <span className="min-w-0 flex-1 truncate">{item.title}</span>
                <span className="shrink-0 text-s text-ink2">
                  {item.kind}, {item.detail}
                </span>
              </button>
            </li>
          ))}
          {found.isFetched && items.length === 0 && (
            <li className="px-3 py-2 text-ink2">Nothing is called that.</li>
          )}
        </ul>
      )}
    </div>
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
    <header className="flex h-14 shrink-0 items-end border-b border-rule bg-board px-6 max-md:h-12 max-md:items-center max-md:gap-3 max-md:px-4">
      <NavLink
        to="/tonight"
        className="mr-8 flex h-14 items-center gap-2.5 text-l font-semibold whitespace-nowrap max-md:mr-0 max-md:h-auto"
        style={{ fontStretch: "92%" }}
      >
        <Mark />
        <span className="max-md:hidden">Gray Shelf</span>
      </NavLink>
      <div className="mr-5 flex h-14 items-center max-md:mr-0 max-md:h-auto max-md:flex-1">
        <RigHolder />
      </div>
      <nav aria-label="Places" className="flex items-end gap-0.5 max-md:hidden">
        {PLACES.map((place, index) => (
          <NavLink
            key={place.path}
            to={place.path}
            className={({ isActive }) =>
              `-mb-px flex w-[92px] items-center gap-2 rounded-t-sm border border-b-0 px-3 ${
                isActive
                  ? "h-[42px] border-rule bg-paper text-l font-semibold"
                  : "h-9 border-line text-ink2 hover:text-ink"
              }`
            }
          >
            <span className="num text-s text-ink2">{index + 1}</span>
            {place.name}
          </NavLink>
        ))}
      </nav>
      <div className="ml-auto flex h-14 items-center gap-3 max-md:h-auto">
        <Search />
        <ThemeSwitch />
      </div>
    </header>
  );
}
