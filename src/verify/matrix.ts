import type { Row } from "../conditions/source.js";
import { type ActionName, actionNamesOf } from "../rules/actions.js";
import { type Portier, rulesetOf } from "../session/portier.js";
import type { Reach } from "../session/reach.js";
import type { Viewer } from "./viewers.js";

/** What one viewer may do with one table. */
export interface MatrixRow {
  readonly viewer: Viewer;
  readonly table: string;
  readonly cells: ReadonlyMap<ActionName, MatrixCell>;
}

export interface MatrixCell {
  readonly reach: Reach;
  /** Of the records at hand, those that it is permitted on; absent without records, and for create. */
  readonly count?: number;
}

/** On how many records a viewer may do something, where that depends on the record; undefined where nobody can say. */
export type CountRecords = (viewer: Viewer, action: ActionName, table: string) => Count | undefined;

export interface Count {
  readonly permitted: number;
  readonly all: number;
}

/**
 * The access matrix: viewers by tables by actions. With `records` (table name to records), each cell also counts.
 * A role's or group's view leaves the person open, so its records cannot be counted.
 */
export function accessMatrix(
  portier: Portier,
  viewers: readonly Viewer[],
  records: ReadonlyMap<string, readonly Row[]> = new Map(),
  tables?: readonly string[],
): MatrixRow[] {
  const count: CountRecords = ({ session }, action, table) => {
    const rows = records.get(table);
    if (rows === undefined) return undefined;
    const isDecided = ["all", "none"].includes(session.reach(action, table));
    const permitted = isDecided ? 0 : rows.filter((row) => session.may(action, table, row)).length;
    return { permitted, all: rows.length };
  };
  return countedMatrix(portier, viewers, count, tables);
}

/** The same with counts from elsewhere. */
export function countedMatrix(
  portier: Portier,
  viewers: readonly Viewer[],
  count: CountRecords,
  tables: readonly string[] = [...portier.schema.tables.keys()],
): MatrixRow[] {
  return tables.flatMap((table) => {
    const actions = matrixActions(portier, table);
    return viewers.map((viewer): MatrixRow => {
      const cells = actions.map((action) => [action, matrixCell(viewer, action, table, count)] as const);
      return { viewer, table, cells: new Map(cells) };
    });
  });
}

const everyday: readonly ActionName[] = ["list", "view", "create", "edit", "delete"];

/** The actions that a table's matrix shows: the everyday ones, and those besides that a rule speaks of. */
export function matrixActions(portier: Portier, name: string): readonly ActionName[] {
  const table = portier.schema.tables.get(name);
  if (table === undefined) return everyday;
  const ruleset = rulesetOf(portier);
  return actionNamesOf(table).filter((action) => everyday.includes(action) || ruleset.of(name, action).length > 0);
}

function matrixCell(viewer: Viewer, action: ActionName, table: string, count: CountRecords): MatrixCell {
  const reach = viewer.session.reach(action, table);
  if (viewer.kind === "role" || viewer.kind === "group" || action === "create" || action === "import") return { reach };
  const counted = count(viewer, action, table);
  if (counted === undefined) return { reach };
  return { reach, count: reach === "none" ? 0 : reach === "all" ? counted.all : counted.permitted };
}
