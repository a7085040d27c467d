import type { Schemas } from "../../api/client";
import { Ruler } from "../../parts/Ruler";

/** What a run starts from: the cooler, the room, the devices, each with how good it is. */
export function Ready({ lines }: { lines: Schemas["ReadyOut"][] }) {
  return lines.map((line) => (
    <li
      key={line.what}
      className="grid grid-cols-[84px_1fr_auto] items-center gap-2 border-b border-line py-1"
    >
      <span className={`font-semibold ${line.good ? "" : "text-accent"}`}>{line.what}</span>
      <span className="min-w-0 text-s xl:truncate" title={line.text}>
        {line.text}
      </span>
      {line.ruler && <Ruler ruler={line.ruler} width={64} />}
    </li>
  ));
}
