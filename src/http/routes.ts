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
  | "delete"
  | "perform"
  | "newForm"
  | "form"
  | "choices"
  | "choicesOf"
  | "bulkEdit"
  | "import"
  | "export";

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
    summary: "This description, of what the current user may know of",
    answer: "description",
  },
  {
    name: "me",
    method: "GET",
    path: "/me",
    summary: "The current user: roles, screens, and the screen to start on",
    answer: "me",
  },
  {
    name: "list",
    method: "GET",
    path: "/records/:table",
    summary: "List the records that the current user may see, filtered, sorted, page by page",
    answer: "page",
  },
  {
    name: "create",
    method: "POST",
    path: "/records/:table",
    summary: "Create a record",
    body: "values",
    answer: "made",
  },
  {
    name: "editEach",
    method: "PATCH",
    path: "/records/:table",
    summary: "Edit several records, each with its own values: all of them, or none",
    body: "changes",
    answer: "many",
  },
  {
    name: "view",
    method: "GET",
    path: "/records/:table/:key",
    summary: "View a record as the current user may see it",
    answer: "record",
    version: "If-None-Match",
  },
  {
    name: "edit",
    method: "PATCH",
    path: "/records/:table/:key",
    summary: "Edit a record; with If-Match, only the version that was seen",
    body: "values",
    answer: "changed",
    version: "If-Match",
  },
  {
    name: "delete",
    method: "DELETE",
    path: "/records/:table/:key",
    summary: "Delete a record",
    answer: "deleted",
    version: "If-Match",
  },
  {
    name: "perform",
    method: "POST",
    path: "/actions/:table/:key/:action",
    summary: "Perform an action of the table on a record",
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
    summary: "The values that may be chosen for a field of a new record",
    answer: "choices",
  },
  {
    name: "choicesOf",
    method: "GET",
    path: "/choices/:table/:field/:key",
    summary: "The values that may be chosen for a field of a record",
    answer: "choices",
  },
  {
    name: "bulkEdit",
    method: "PATCH",
    path: "/bulk-edits/:table",
    summary: "Set the same values on many records: all of them, or none",
    body: "bulk",
    answer: "many",
  },
  {
    name: "import",
    method: "POST",
    path: "/imports/:table",
    summary: "Import new records, with a result for each: all of them, or none",
    body: "records",
    answer: "many",
  },
  {
    name: "export",
    method: "GET",
    path: "/exports/:table",
    summary: "Export records as CSV (RFC 4180)",
    answer: "file",
  },
];
