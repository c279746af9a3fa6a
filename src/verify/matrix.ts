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

/**
 * The access matrix: viewers by tables by actions. With `records` (table name to records), each cell also counts.
 * A role's view leaves the person open, so its records cannot be counted.
 */
export function accessMatrix(
  portier: Portier,
  viewers: readonly Viewer[],
  records: ReadonlyMap<string, readonly Row[]> = new Map(),
  tables: readonly string[] = [...portier.schema.tables.keys()],
): MatrixRow[] {
  return tables.flatMap((table) => {
    const actions = matrixActions(portier, table);
    return viewers.map((viewer): MatrixRow => {
      const rows = viewer.kind === "role" ? undefined : records.get(table);
      const cells = new Map(actions.map((action) => [action, matrixCell(viewer, action, table, rows)]));
      return { viewer, table, cells };
    });
  });
}

const everyday: readonly ActionName[] = ["list", "view", "create", "edit", "delete"];

/** The actions that a table's matrix shows: the everyday ones, and those besides that a rule speaks of. */
function matrixActions(portier: Portier, name: string): readonly ActionName[] {
  const table = portier.schema.tables.get(name);
  if (table === undefined) return everyday;
  const ruleset = rulesetOf(portier);
  return actionNamesOf(table).filter((action) => everyday.includes(action) || ruleset.of(name, action).length > 0);
}

function matrixCell(
  { session }: Viewer,
  action: ActionName,
  table: string,
  rows: readonly Row[] | undefined,
): MatrixCell {
  const reach = session.reach(action, table);
  if (rows === undefined || action === "create" || action === "import") return { reach };
  if (reach === "none") return { reach, count: 0 };
  if (reach === "all") return { reach, count: rows.length };
  let count = 0;
  for (const row of rows) {
    if (session.may(action, table, row)) count++;
  }
  return { reach, count };
}
