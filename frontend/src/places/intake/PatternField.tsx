import { useRef, useState, type ReactNode } from "react";

import type { Schemas } from "../../api/client";
import { FIELD } from "./WhichFrames";

/** A pattern for names, with its parts to put in where the caret stands, so that none has to be remembered. */
export function PatternField({
  label,
  hint = "",
  parts,
  value,
  quiet = false,
  children,
  onChange,
}: {
  label: ReactNode;
  hint?: string;
  parts: Schemas["NamedOut"][];
  value: string;
  /** The parts are shown only while it is being typed. */
  quiet?: boolean;
  children?: ReactNode;
  onChange: (text: string) => void;
}) {
  const field = useRef<HTMLTextAreaElement>(null);
  const [open, setOpen] = useState(!quiet);
  const put = (text: string) => {
    const at = field.current?.selectionStart ?? value.length;
    onChange(value.slice(0, at) + text + value.slice(field.current?.selectionEnd ?? at));
    field.current?.focus();
  };
  return (
    <div>
      <label className="flex flex-col gap-1 text-s text-ink2">
        <span>{label}</span>
        {/* As many lines as it needs: a pattern that is cut off cannot be judged. */}
        <textarea
          ref={field}
          rows={1}
          value={value}
          placeholder={hint}
          spellCheck={false}
          onFocus={() => setOpen(true)}
          onChange={(event) => onChange(event.target.value.replace(/\n/g, ""))}
          className={`num field-sizing-content resize-none py-1.5 leading-4 break-all text-ink placeholder:text-ink2 ${quiet ? "text-s" : "text-m"} ${FIELD} h-auto!`}
        />
      </label>
      {open && (
        <p className="flex flex-wrap gap-x-2.5 gap-y-0.5 pt-1 text-s" role="group" aria-label="Put in a part">
          {parts.map((part) => (
            <button
              key={part.key}
              type="button"
              className="underline underline-offset-2 hover:no-underline max-md:py-2"
              onClick={() => put(part.key.length > 1 ? `{${part.key}}` : part.key)}
            >
              {part.label}
            </button>
          ))}
        </p>
      )}
      {children}
    </div>
  );
}
