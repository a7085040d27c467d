import createClient from "openapi-fetch";

import type { components, paths } from "./schema";

export type Schemas = components["schemas"];

/** What a person is told when something did not work (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly title: string,
    readonly detail: string,
    readonly advice: string,
  ) {
    super(detail);
  }
}

export const api = createClient<paths>({ baseUrl: "/" });

/** The data of an answer, or a `Problem` to show. */
export async function get<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let result;
  try {
    result = await answer;
  } catch {
    throw new Problem(
      "No answer",
      "Gray Shelf does not answer: it may have been closed.",
      "Start it again; nothing is lost.",
    );
  }
  if (result.data !== undefined) return result.data;
  const told = (result.error ?? {}) as Partial<Record<"title" | "detail" | "advice", string>>;
  throw new Problem(
    told.title ?? "That did not work",
    told.detail ?? `The answer was ${result.response.status}.`,
    told.advice ?? "",
  );
}
