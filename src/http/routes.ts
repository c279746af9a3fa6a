/** What a body is read as: see `openapi-schemas.ts`. */
export type BodyShape = "values" | "changes" | "bulk" | "records" | "confirmation";

/** What is answered when it works out. */
export type AnswerShape =
  | "me"
  | "page"
  | "record"
  | "made"
  | "changed"
  | "deleted"
  | "many"
  | "form"
  | "choices"
  | "file"
  | "description";

/** What a route does; `handler.ts` says how. */
export type RouteName =
  | "description"
  | "me"
  | "list"
  | "create"
  | "editEach"
  | "view"
  | "edit"
  | "remove"
  | "act"
  | "newForm"
  | "form"
  | "choices"
  | "choicesOf"
  | "bulk"
  | "importMany"
  | "exportTable";

export interface Route {
  readonly name: RouteName;
  readonly method: "GET" | "POST" | "PATCH" | "DELETE";
  /** Segments; those with a colon take any. `:key` is a record's address as one encoded segment. */
  readonly path: string;
  /** One line, for the description of the interface. */
  readonly summary: string;
  readonly body?: BodyShape;
  readonly answer: AnswerShape;
  /** Whether a version that the caller knows is compared: one that is not the current one is answered, or not changed. */
  readonly version?: "If-None-Match" | "If-Match";
}

/** Every route, in the order of the description. */
export const routes: readonly Route[] = [
  {
    name: "description",
    method: "GET",
    path: "/openapi.json",
    summary: "This description, of what the current user can know of",
    answer: "description",
  },
  {
    name: "me",
    method: "GET",
    path: "/me",
    summary: "The current user: roles, screens, and where they land",
    answer: "me",
  },
  {
    name: "list",
    method: "GET",
    path: "/records/:table",
    summary: "The records that one sees, filtered, sorted, page by page",
    answer: "page",
  },
  {
    name: "create",
    method: "POST",
    path: "/records/:table",
    summary: "Makes a record",
    body: "values",
    answer: "made",
  },
  {
    name: "editEach",
    method: "PATCH",
    path: "/records/:table",
    summary: "Changes of several records, each with its own values: all of them, or none",
    body: "changes",
    answer: "many",
  },
  {
    name: "view",
    method: "GET",
    path: "/records/:table/:key",
    summary: "One record as one sees it",
    answer: "record",
    version: "If-None-Match",
  },
  {
    name: "edit",
    method: "PATCH",
    path: "/records/:table/:key",
    summary: "Changes a record; with If-Match only the version that was seen",
    body: "values",
    answer: "changed",
    version: "If-Match",
  },
  {
    name: "remove",
    method: "DELETE",
    path: "/records/:table/:key",
    summary: "Deletes a record",
    answer: "deleted",
    version: "If-Match",
  },
  {
    name: "act",
    method: "POST",
    path: "/acts/:table/:key/:action",
    summary: "Does what the table's own action is",
    body: "confirmation",
    answer: "changed",
    version: "If-Match",
  },
  {
    name: "newForm",
    method: "GET",
    path: "/forms/:table",
    summary: "The form of a new record: fields, defaults, choices",
    answer: "form",
  },
  {
    name: "form",
    method: "GET",
    path: "/forms/:table/:key",
    summary: "The form of a record: hidden, read-only, editable and to be confirmed fields",
    answer: "form",
  },
  {
    name: "choices",
    method: "GET",
    path: "/choices/:table/:field",
    summary: "What may be chosen for a field of a new record",
    answer: "choices",
  },
  {
    name: "choicesOf",
    method: "GET",
    path: "/choices/:table/:field/:key",
    summary: "What may be chosen for a field of a record",
    answer: "choices",
  },
  {
    name: "bulk",
    method: "PATCH",
    path: "/bulk/:table",
    summary: "The same values for many records: all of it, or nothing",
    body: "bulk",
    answer: "many",
  },
  {
    name: "importMany",
    method: "POST",
    path: "/imports/:table",
    summary: "Many new records with a result for each: all of them, or none",
    body: "records",
    answer: "many",
  },
  {
    name: "exportTable",
    method: "GET",
    path: "/exports/:table",
    summary: "What may be taken out, as CSV (RFC 4180)",
    answer: "file",
  },
];
