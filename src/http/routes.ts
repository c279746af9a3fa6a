import type { Call } from "./call.js";
import { act, bulk, create, edit, editEach, importMany, remove } from "./change-routes.js";
import { choices, exportTable, form, list, me, newForm, view } from "./read-routes.js";

export interface Route {
  readonly method: "GET" | "POST" | "PATCH" | "DELETE";
  /** Segments; those with a colon take any. `:key` is a record's address as one encoded segment. */
  readonly path: string;
  /** One line, for the description of the interface. */
  readonly summary: string;
  readonly run: (call: Call) => Promise<Response>;
}

/** Every route, in the order of the description. */
export const routes: readonly Route[] = [
  { method: "GET", path: "/me", summary: "Who asks: roles, screens, and where they land", run: me },
  {
    method: "GET",
    path: "/records/:table",
    summary: "The records that one sees, filtered, sorted, page by page",
    run: list,
  },
  { method: "POST", path: "/records/:table", summary: "Makes a record", run: create },
  {
    method: "PATCH",
    path: "/records/:table",
    summary: "Changes of several records, each with its own values: all of them, or none",
    run: editEach,
  },
  { method: "GET", path: "/records/:table/:key", summary: "One record as one sees it", run: view },
  {
    method: "PATCH",
    path: "/records/:table/:key",
    summary: "Changes a record; with If-Match only the version that was seen",
    run: edit,
  },
  { method: "DELETE", path: "/records/:table/:key", summary: "Deletes a record", run: remove },
  { method: "POST", path: "/acts/:table/:key/:action", summary: "Does what the table's own action is", run: act },
  {
    method: "GET",
    path: "/forms/:table",
    summary: "The form of a new record: fields, defaults, choices",
    run: newForm,
  },
  {
    method: "GET",
    path: "/forms/:table/:key",
    summary: "The form of a record: hidden, read-only, editable and to be confirmed fields",
    run: form,
  },
  {
    method: "GET",
    path: "/choices/:table/:field",
    summary: "What may be chosen for a field of a new record",
    run: choices,
  },
  {
    method: "GET",
    path: "/choices/:table/:field/:key",
    summary: "What may be chosen for a field of a record",
    run: choices,
  },
  {
    method: "PATCH",
    path: "/bulk/:table",
    summary: "The same values for many records: all of it, or nothing",
    run: bulk,
  },
  {
    method: "POST",
    path: "/imports/:table",
    summary: "Many new records with a result for each: all of them, or none",
    run: importMany,
  },
  { method: "GET", path: "/exports/:table", summary: "What may be taken out, as CSV (RFC 4180)", run: exportTable },
];
