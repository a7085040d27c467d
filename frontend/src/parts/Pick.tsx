import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/react";
import { ChevronsUpDown } from "lucide-react";

export interface Picked<T> {
  value: T;
  title: string;
  detail?: string;
}

/** One of a list, shown with its detail; the list may stand in groups. */
export function Pick<T extends number | null>({
  label,
  value,
  groups,
  onChange,
  wide = false,
}: {
  label: string;
  value: T;
  groups: { title: string; options: Picked<T>[] }[];
  onChange: (value: T) => void;
  /** As wide as there is room. */
  wide?: boolean;
}) {
  const chosen = groups.flatMap((g) => g.options).find((o) => o.value === value);
  return (
    <Listbox value={value} onChange={onChange}>
      <ListboxButton
        aria-label={`${label}: ${chosen?.title ?? ""}`}
        className={`flex h-8 items-center gap-2 rounded-sm border border-rule bg-card px-2 text-left max-md:h-11 ${wide ? "w-full" : ""}`}
      >
        <span className="min-w-0 flex-1 truncate">
          {chosen?.title} <span className="text-s text-ink2">{chosen?.detail}</span>
        </span>
        <ChevronsUpDown size={14} aria-hidden />
      </ListboxButton>
      <ListboxOptions
        anchor="bottom start"
        className="z-[60] max-h-[380px] min-w-[var(--button-width)] overflow-auto border border-rule bg-card py-1 text-m text-ink focus:outline-none"
      >
        {groups.map((group) => (
          <div key={group.title}>
            {group.title && <p className="narrow px-2.5 pt-1.5 text-s text-ink2">{group.title}</p>}
            {group.options.map((option) => (
              <ListboxOption
                key={String(option.value)}
                value={option.value}
                className="flex cursor-pointer items-baseline justify-between gap-4 px-2.5 py-1 data-focus:bg-board data-selected:font-semibold"
              >
                {option.title}
                {option.detail && <span className="text-s font-normal text-ink2">{option.detail}</span>}
              </ListboxOption>
            ))}
          </div>
        ))}
      </ListboxOptions>
    </Listbox>
  );
}
