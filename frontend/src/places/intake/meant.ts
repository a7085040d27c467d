import { useEffect, useState } from "react";

import type { Schemas } from "../../api/client";

/** Which frames are meant, as it is typed and chosen. */
export interface Meant {
  folder: number | null;
  below: string;
  nameHas: string;
  night: string;
  camera: string;
  kind: string;
  lacks: string;
}

export const NOBODY: Meant = {
  folder: null,
  below: "",
  nameHas: "",
  night: "",
  camera: "",
  kind: "",
  lacks: "",
};

/** As the server asks for it. */
export const framesMeant = (meant: Meant): Schemas["FramesMeantIn"] => ({
  folder_id: meant.folder,
  below: meant.below,
  name_has: meant.nameHas,
  night: meant.night || null,
  camera: meant.camera,
  kind: meant.kind,
  lacks: meant.lacks,
  set_id: null,
});

/** A value once it has not changed for a moment. */
export function useSettled<T>(value: T, ms = 250): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), ms);
    return () => clearTimeout(timer);
  }, [value, ms]);
  return settled;
}
