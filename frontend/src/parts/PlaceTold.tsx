import type { Schemas } from "../api/client";
import { Button } from "./basics";

type Told = Schemas["PlaceToldOut"];

/** What headers say of a place; taken by a button, where that is named. */
export function PlaceTold({
  told,
  take,
  onTake,
}: {
  told: Told;
  take: string;
  onTake: (told: Told) => void;
}) {
  return (
    <p className="flex flex-wrap items-center gap-2">
      {told.text}
      {take && <Button onClick={() => onTake(told)}>{take}</Button>}
    </p>
  );
}
