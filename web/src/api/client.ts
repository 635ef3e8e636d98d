import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];

export interface Problem {
  path: string;
  message: string;
  line?: number;
}

/** What the server refused, in its words, with the places that are wrong. */
export class Refusal extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly problems: Problem[] = [],
  ) {
    super(message);
  }

  /** Whether the server answered that it did nothing; otherwise the answer was lost and it may have. */
  get decided(): boolean {
    return this.status >= 400 && this.status < 500 && this.status !== 408;
  }
}

function cookie(name: string): string {
  const found = document.cookie.split("; ").find((part) => part.startsWith(`${name}=`));
  return found ? decodeURIComponent(found.slice(name.length + 1)) : "";
}

/** What proves that a request comes from our own page. */
export const csrf = () =>
  cookie(document.querySelector<HTMLMetaElement>("meta[name=csrf-cookie]")?.content ?? "");

export const api = createClient<paths>({ baseUrl: window.location.origin });

api.use({
  onRequest({ request }) {
    if (request.method !== "GET") request.headers.set("X-CSRFToken", csrf());
    return request;
  },
});

/** The data of an answer; throws a {@link Refusal} otherwise, also when the server cannot be reached. */
export async function ask<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let got: { data?: T; error?: unknown; response: Response };
  try {
    got = await answer;
  } catch {
    throw new Refusal(0, "Strell does not answer. Is it running? Nothing you typed is lost; try again.");
  }
  if (got.response.ok) return got.data as T;
  const body = got.error as { message?: string; problems?: Problem[]; detail?: unknown } | undefined;
  const status = got.response.status;
  const fallback = status === 401 ? "You are signed out." : `The server answered with error ${status}.`;
  throw new Refusal(status, body?.message ?? fallback, body?.problems ?? []);
}
