import { type Schemas } from "../../api/client";
import { several } from "../../parts/several";
import { ToSlip } from "../../parts/ToSlip";

/** Lines of a list: what lights wait for that cannot be shot now, and why. */
export function OutOfReach({ lines, indent = "" }: { lines: Schemas["OutOfReachOut"][]; indent?: string }) {
  return lines.map((line) => (
    <li key={`${line.title}${line.why}`} className={`border-b border-line py-1.5 ${indent}`}>
      <span className="font-semibold">{line.title}</span>{" "}
      <span className="text-s text-ink2">
        for {several(line.lights, "light")} cannot be shot now: {line.why}.{" "}
        {line.slip && <ToSlip slip={line.slip}>Say it on their slip</ToSlip>}
      </span>
    </li>
  ));
}
