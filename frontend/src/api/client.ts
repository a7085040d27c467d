import createClient from "openapi-fetch";
import createQueries from "openapi-react-query";

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

const NO_ANSWER = new Problem(
  "No answer",
  "Gray Shelf does not answer: it may have been closed.",
  "Start it again; nothing is lost.",
);

/** What an answer that is no success tells. */
async function problemOf(response: Response): Promise<Problem> {
  const told = await response
    .json()
    .then((body) => body as Partial<Record<"title" | "detail" | "advice", string>>)
    .catch(() => ({}) as Partial<Record<"title" | "detail" | "advice", string>>);
  return new Problem(
    told.title ?? "That did not work",
    told.detail ?? `The answer was ${response.status}.`,
    told.advice ?? "",
  );
}

export const api = createClient<paths>({ baseUrl: "/" });

// Whoever asks gets data, or a problem to show.
api.use({
  async onResponse({ response }) {
    // This session has ended: the page that asks for the code takes the place of this one.
    if (response.status === 401) window.location.reload();
    if (!response.ok) throw await problemOf(response);
  },
  onError({ error }) {
    const givenUp = error instanceof DOMException && error.name === "AbortError";
    return error instanceof Problem || givenUp ? error : NO_ANSWER;
  },
});

/** The pages as queries, typed by the server's own document. */
export const asked = createQueries(api);

/** The data of an answer. */
export async function get<T>(answer: Promise<{ data?: T }>): Promise<T> {
  const { data } = await answer;
  if (data === undefined) throw NO_ANSWER;
  return data;
}
