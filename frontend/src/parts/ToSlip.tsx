import type { ReactNode } from "react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";

/** A way to the slip of some lights. */
export function ToSlip({ slip, children }: { slip: Schemas["SlipAt"]; children: ReactNode }) {
  return (
    <Link className="underline underline-offset-2" to={`/nights/${slip.night ?? ""}?set=${slip.set_id}`}>
      {children}
    </Link>
  );
}
