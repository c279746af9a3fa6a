import type { Row } from "../conditions/source.js";
import { type ActionName, actionNamesOf, speaksOfFields } from "../rules/actions.js";
import { internals } from "../session/internals.js";
import type { Portier } from "../session/portier.js";
import type { Reach } from "../session/reach.js";

import { PermittedSets } from "./permitted-sets.js";
import { sizeOf } from "./record-sets.js";
import type { Viewer } from "./viewers.js";

/** What one viewer may do with one table, or with one field of it. */
export interface MatrixRow {
  readonly viewer: Viewer;
  readonly table: string;
  /** Undefined: the records as a whole; actions on fields then ask for any field. */
  readonly field: string | undefined;
  /** By action, in the order of the document's actions. */
  readonly cells: ReadonlyMap<ActionName, MatrixCell>;
}

/** On how many records somebody may do something. */
export interface MatrixCell {
  /** On how many records, by the rules alone; `count` says it for the records given. */
  readonly reach: Reach;
  /** Of the records at hand, those that it is permitted on; absent without records, and for create. */
  readonly count?: number;
}

/** On how many records a viewer may do something, where that depends on the record; undefined where nobody can say. */
export type CountRecords = (viewer: Viewer, action: ActionName, table: string, field?: string) => Count | undefined;

export interface Count {
  readonly permitted: number;
  readonly all: number;
}

/** What a matrix is made of. */
export interface MatrixOptions {
  /** Table name to records: each cell then also counts. The records of the source that the sessions read. */
  readonly records?: ReadonlyMap<string, readonly Row[]>;
  /** Default: all tables. */
  readonly tables?: readonly string[];
  /** Also a row for each field. */
  readonly fields?: boolean;
  /** Told of each table that is done. */
  readonly onTable?: (done: number, all: number) => void;
}

/**
 * The access matrix: viewers by tables, and on request fields, by actions. A role's or group's view leaves the person
 * open, so its records cannot be counted.
 *
 * Cells are not worked out one by one: persons who are equal before the rules share a row, and conditions that several
 * have in common are asked once of each record (see {@link PermittedSets}).
 *
 * @example
 * accessMatrix(portier, personViewers(portier, people, { source }), { records });
 * // one row for each person and table: how many records they may list, view, edit, ...
 */
export function accessMatrix(
  portier: Portier,
  viewers: readonly Viewer[],
  { records = new Map(), ...options }: MatrixOptions = {},
): MatrixRow[] {
  const sets = new Map<string, PermittedSets>();
  const setsOf = (table: string, rows: readonly Row[]) => {
    const made = sets.get(table) ?? new PermittedSets(table, rows);
    sets.set(table, made);
    return made;
  };
  const count: CountRecords = ({ session }, action, table, field) => {
    const rows = records.get(table);
    if (rows === undefined) return undefined;
    const isDecided = ["all", "none"].includes(session.reach(action, table, field));
    const permitted = isDecided ? 0 : sizeOf(setsOf(table, rows).permitted(session, action, field));
    return { permitted, all: rows.length };
  };
  return countedMatrix(portier, viewers, count, options);
}

/** The same with counts from elsewhere. */
export function countedMatrix(
  portier: Portier,
  viewers: readonly Viewer[],
  count: CountRecords,
  { tables = [...portier.schema.tables.keys()], fields = false, onTable }: Omit<MatrixOptions, "records"> = {},
): MatrixRow[] {
  const found = tables.map((name) => portier.schema.tables.get(name)).filter((table) => table !== undefined);
  return found.flatMap((table, index) => {
    onTable?.(index, found.length);
    const actions = matrixActions(portier, table.name);
    const asked = [undefined, ...(fields ? table.fields.map(({ name }) => name) : [])];
    return asked.flatMap((field) => {
      // Equal persons share a row.
      const known = new Map<string, MatrixRow["cells"]>();
      return viewers.map((viewer): MatrixRow => {
        const key = internals(viewer.session).subject.classKey();
        const cells =
          known.get(key) ??
          new Map(
            actions
              .filter((action) => field === undefined || speaksOfFields(table, action))
              .map((action) => [action, matrixCell(viewer, action, table.name, field, count)] as const),
          );
        known.set(key, cells);
        return { viewer, table: table.name, field, cells };
      });
    });
  });
}

const everyday: readonly ActionName[] = ["list", "view", "create", "edit", "delete"];

/** The actions that a table's matrix shows: the everyday ones, and those besides that a rule speaks of. */
export function matrixActions(portier: Portier, name: string): readonly ActionName[] {
  const table = portier.schema.tables.get(name);
  if (table === undefined) return everyday;
  const ruleset = internals(portier).ruleset;
  return actionNamesOf(table).filter((action) => everyday.includes(action) || ruleset.of(name, action).length > 0);
}

function matrixCell(
  viewer: Viewer,
  action: ActionName,
  table: string,
  field: string | undefined,
  count: CountRecords,
): MatrixCell {
  const reach = viewer.session.reach(action, table, field);
  if (viewer.kind === "role" || viewer.kind === "group" || action === "create" || action === "import") return { reach };
  const counted = count(viewer, action, table, field);
  if (counted === undefined) return { reach };
  return { reach, count: reach === "none" ? 0 : reach === "all" ? counted.all : counted.permitted };
}

/** Viewers with the same answers to everything that was asked, as one. */
export interface MatrixClass {
  readonly viewers: readonly Viewer[];
  /** Of the first of them; the others' are equal. */
  readonly rows: readonly MatrixRow[];
}

/**
 * Folds a matrix: those who may do the same, on as many records, stand together, in the order of the first of each; with
 * `compare`, those who also stand in the same way to whom they are compared with.
 */
export function groupMatrix(
  rows: readonly MatrixRow[],
  compare?: (row: MatrixRow, action: ActionName) => unknown,
): MatrixClass[] {
  const byViewer = new Map<Viewer, MatrixRow[]>();
  for (const row of rows) {
    const own = byViewer.get(row.viewer);
    if (own === undefined) byViewer.set(row.viewer, [row]);
    else own.push(row);
  }
  // Rows that are shared are compared by identity, so that a thousand equal persons cost little.
  const ids = new Map<MatrixRow["cells"], string>();
  const idOf = ({ cells }: MatrixRow): string => {
    const id = ids.get(cells) ?? JSON.stringify([...cells].map(([, { reach, count }]) => [reach, count]));
    ids.set(cells, id);
    return id;
  };
  const keyOf = (row: MatrixRow) =>
    compare === undefined
      ? idOf(row)
      : idOf(row) + JSON.stringify([...row.cells.keys()].map((one) => compare(row, one)));
  const classes = new Map<string, { viewers: Viewer[]; rows: readonly MatrixRow[] }>();
  for (const [viewer, own] of byViewer) {
    const key = own.map(keyOf).join(" ");
    const found = classes.get(key);
    if (found === undefined) classes.set(key, { viewers: [viewer], rows: own });
    else found.viewers.push(viewer);
  }
  return [...classes.values()];
}
