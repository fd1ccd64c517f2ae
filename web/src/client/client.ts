import createClient from "openapi-fetch";
import { Flag } from "./flag";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Dimension = "completeness" | "validity" | "uniqueness" | "consistency";

export const api = createClient<paths>({ baseUrl: "/api/v1" });

/** What the service answered instead of what was asked for (RFC 9457). */
export class Refusal extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly details: { message: string; location?: string; value?: unknown }[],
    /** The number of the request, by which the service's log knows it. */
    readonly id?: string,
  ) {
    super(message);
  }
}

/** Whether the session has ended while somebody was at work: the page stays, and asks to sign in again. */
export const sessionEnded = new Flag();

/** Whether the service is away; the page asks for it until it is back. */
export const away = new Flag();

const askAgain = 2000;

function awaitReturn() {
  if (away.on) {
    return;
  }
  away.set(true);
  const ask = () =>
    fetch("/healthz").then(
      (answer) => (answer.ok ? away.set(false) : setTimeout(ask, askAgain)),
      () => setTimeout(ask, askAgain),
    );
  setTimeout(ask, askAgain);
}

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** The answer of a call, or its refusal thrown. */
export async function take<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await call;
  } catch (problem) {
    if (problem instanceof DOMException && problem.name === "AbortError") {
      throw problem; // nobody waits for it any more
    }
    awaitReturn();
    throw new Refusal(0, "The service does not answer. Is it still running?", []);
  }
  if (answer.response.ok) {
    return answer.data as T;
  }
  const problem = (answer.error ?? {}) as Partial<Schemas["ErrorModel"]>;
  const details = (problem.errors ?? []).map((e) => ({
    message: e.message ?? "",
    location: e.location,
    value: e.value,
  }));
  if (answer.response.status === 401) {
    sessionEnded.set(true);
  }
  throw new Refusal(
    answer.response.status,
    problem.detail ?? answer.response.statusText,
    details,
    answer.response.headers.get("X-Request-Id") ?? undefined,
  );
}

/** Sends a file as it is; onProgress is told the share that is sent. */
function upload<T>(path: string, file: File, onProgress: (share: number) => void): Promise<T> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest(); // fetch does not report the progress of an upload
    request.open("POST", `/api/v1${path}`);
    request.upload.onprogress = (e) => onProgress(e.total ? e.loaded / e.total : 0);
    request.onload = () => {
      const body = JSON.parse(request.responseText || "{}");
      if (request.status < 300) {
        resolve(body);
      } else {
        reject(new Refusal(request.status, body.detail ?? request.statusText, []));
      }
    };
    request.onerror = () =>
      reject(new Refusal(0, "The upload was cut off; nothing was kept. Send it again.", []));
    request.send(file);
  });
}

/** Uploads a file as a delivery. */
export const deliver = (
  dataset: string,
  file: File,
  about: Record<string, string>,
  onProgress: (share: number) => void,
) =>
  upload<Schemas["Delivered"]>(
    `/datasets/${encodeURIComponent(dataset)}/deliveries?${new URLSearchParams({ file_name: file.name, ...about })}`,
    file,
    onProgress,
  );

/** Sends a file to be looked at before it becomes a delivery. */
export const arrive = (file: File, onProgress: (share: number) => void) =>
  upload<Schemas["Arrival"]>(`/arrivals?${new URLSearchParams({ file_name: file.name })}`, file, onProgress);
