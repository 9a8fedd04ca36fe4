import createClient from "openapi-fetch";
import { noteAge } from "./age";
import type { components, paths } from "./schema.generated";
import { asSentence } from "./sentence";

export type Schemas = components["schemas"];

/** The answer was not what was asked for; `message` says what to do. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    message: string,
  ) {
    super(message);
  }
}

const client = createClient<paths>({ baseUrl: "/", credentials: "same-origin" });

client.use({
  onRequest({ request }) {
    const token = /(?:^|; )(?:__Host-)?csrftoken=([^;]*)/.exec(document.cookie)?.[1];
    if (token && request.method !== "GET") request.headers.set("X-CSRFToken", token);
    return request;
  },
  onResponse({ response }) {
    noteAge(response);
  },
});

interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

/** Unwraps an answer, or throws an ApiError with the server's own words. */
export async function take<T>(asked: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await asked;
  } catch {
    throw new ApiError(0, "Wirbel does not answer. Is the server running?");
  }
  if (answer.response.ok) return answer.data as T;
  const detail = (answer.error as { detail?: unknown } | undefined)?.detail;
  throw new ApiError(
    answer.response.status,
    typeof detail === "string" ? asSentence(detail) : `The server answered ${answer.response.status}.`,
  );
}

export { client };
