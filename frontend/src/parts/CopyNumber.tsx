import { Check, Copy } from "lucide-react";
import { useState } from "react";

import { copyText } from "./copyText";

/** A number with the button that copies it. */
export function CopyNumber({ name, copied, text }: { name: string; copied: string; text: string }) {
  const [done, setDone] = useState(false);
  const copy = () =>
    void copyText(copied).then((worked) => {
      setDone(worked);
      window.setTimeout(() => setDone(false), 1200);
    });
  return (
    <button
      type="button"
      onClick={copy}
      aria-label={`Copy ${name}: ${copied}`}
      className="inline-flex h-9 items-center gap-1.5 rounded-sm border border-rule bg-card px-2.5 hover:border-ink max-md:h-11"
    >
      <span className="num">{text}</span>
      {done ? <Check size={14} aria-hidden /> : <Copy size={14} aria-hidden className="text-ink2" />}
      <span className="sr-only" role="status">
        {done ? "copied" : ""}
      </span>
    </button>
  );
}
