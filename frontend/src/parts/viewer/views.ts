import { asked, type Problem, type Schemas } from "../../api/client";
import type { UseQueryResult } from "@tanstack/react-query";

export type View = Schemas["ViewOut"];
export type Colour = View["colours"][number];
export type Along = "row" | "column" | "radius";

/** What is looked at: a frame by its number, alone, held against another, or calibrated. */
export interface Looked {
  frame: number;
  how: "alone" | "minus" | "over" | "calibrated";
  other?: number;
  dark?: number;
  flat?: number;
  /** Where the dark is scaled: with which bias, and how much of it is taken. */
  bias?: number;
  share?: number;
  colour?: Colour;
}

const query = ({ how, other, dark, flat, bias, share, colour }: Looked) => ({
  how,
  other,
  dark,
  flat,
  bias,
  share,
  colour,
});
const of = (looked: Looked | null) => ({
  params: { path: { frame_id: looked?.frame ?? 0 }, query: looked ? query(looked) : {} },
});

export const useView = (looked: Looked | null) =>
  asked.useQuery("get", "/api/frames/{frame_id}/view", of(looked), {
    enabled: looked !== null,
    retry: false,
  }) as UseQueryResult<View, Problem>;

export const useHistogram = (looked: Looked) =>
  asked.useQuery("get", "/api/frames/{frame_id}/histogram", of(looked), { retry: false });

export const useBeside = (frame: number) =>
  asked.useQuery("get", "/api/frames/{frame_id}/beside", { params: { path: { frame_id: frame } } });

export const useProfile = (looked: Looked, along: Along | null, place: number, band: number) =>
  asked.useQuery(
    "get",
    "/api/frames/{frame_id}/profile",
    {
      params: {
        path: { frame_id: looked.frame },
        query: { ...query(looked), along: along ?? "row", place, band },
      },
    },
    { enabled: along !== null, placeholderData: (before: Schemas["ProfileOut"] | undefined) => before },
  );

/** What an address asks for, as it stands behind the question mark. */
export function asText(looked: Looked, more: Record<string, string | number> = {}): string {
  const asked = Object.entries({ ...query(looked), ...more }).filter(([, value]) => value !== undefined);
  return new URLSearchParams(asked.map(([name, value]) => [name, String(value)])).toString();
}

/** Where a tile is fetched; another one where the picture's file is. */
export const tileAddress = (looked: Looked, view: View, level: number, column: number, row: number) =>
  `/api/frames/${looked.frame}/tile?${asText(looked, { level, column, row, v: view.version })}`;
