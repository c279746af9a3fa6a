import type { Refusal, RejectedChange } from "../session/change-result.js";

/** Problem details as in RFC 9457, with what belongs to the kind. */
export interface ProblemDetails {
  /** `urn:portier:problem:refused`; the last part is the kind. */
  readonly type: string;
  /** The same for every problem of this type. */
  readonly title: string;
  /** The status code of the response. */
  readonly status: number;
  /** What to tell the person, or the caller. */
  readonly detail?: string;
  readonly [extension: string]: unknown;
}

/** Every kind of problem that is answered, with its status and title. */
export const problemKinds = {
  "bad-request": [400, "Invalid request"],
  "not-signed-in": [401, "Not signed in"],
  refused: [403, "Not permitted"],
  "not-found": [404, "Not found"],
  "wrong-method": [405, "Method not allowed"],
  "not-acceptable": [406, "Not available in the requested format"],
  unconfirmed: [409, "Confirmation needed"],
  constraint: [409, "Conflict with stored data"],
  changed: [412, "Changed by somebody else"],
  "too-large": [413, "Request too large"],
  "wrong-type": [415, "Request body is not JSON"],
  invalid: [422, "Invalid values"],
  fault: [500, "Internal error"],
  busy: [503, "Busy"],
} as const satisfies Readonly<Record<string, readonly [status: number, title: string]>>;

export type ProblemKind = keyof typeof problemKinds;

/** A problem as a response. */
export function problemResponse(
  kind: ProblemKind,
  more: Readonly<Record<string, unknown>> = {},
  headers: Readonly<Record<string, string>> = {},
): Response {
  const [status, title] = problemKinds[kind];
  const details: ProblemDetails = { type: `urn:portier:problem:${kind}`, title, status, ...more };
  return new Response(JSON.stringify(details), {
    status,
    headers: { "content-type": "application/problem+json", "cache-control": "no-store", ...headers },
  });
}

/** Thrown inside a route to end with a problem. */
export class HttpProblem extends Error {
  readonly kind: ProblemKind;
  readonly more: Readonly<Record<string, unknown>>;

  constructor(kind: ProblemKind, detail: string, more: Readonly<Record<string, unknown>> = {}) {
    super(detail);
    this.kind = kind;
    this.more = more;
  }
}

/** A refusal as the person is told it: rules are for developers and logs, and their names are left out. */
export function refusalOf({ field, reason, message }: Refusal) {
  return { ...(field === undefined ? {} : { field }), reason, message };
}

/** What became of a change that was not accepted. */
export function rejectedProblem(outcome: RejectedChange): HttpProblem {
  const { reason, refusals, confirm } = outcome;
  if (reason === "not-found") return notFound();
  if (reason === "fault") return new HttpProblem("fault", "The change could not be judged, so nothing was done.");
  if (reason === "unconfirmed") {
    const detail =
      (confirm ?? []).flatMap(({ note }) => note ?? []).join(" ") || "Send the request again with the confirmed rules.";
    return new HttpProblem("unconfirmed", detail, { confirm });
  }
  const detail = [...new Set(refusals.map(({ message }) => message))].join(" ");
  return new HttpProblem(reason, detail, { refusals: refusals.map(refusalOf) });
}

/** The same for what is not there and for what a person does not know of. */
export function notFound(): HttpProblem {
  return new HttpProblem("not-found", "It does not exist, or you may not view it.");
}
