import type { ActionName, Reach } from "portier";
import { groupBy } from "./group-by.js";
import type { MatrixLine, TableShape } from "./worker/protocol.js";

/** A table of the matrix, with the actions that anybody may do. */
export interface TableColumn extends Pick<TableShape, "name" | "label" | "count"> {
  readonly actions: readonly ActionName[];
}

/** By a table, or (undefined) by who it is. */
export interface Order {
  readonly by: string | undefined;
  readonly isUp: boolean;
}

/** What nobody may do needs no place of its own. */
export function columnsOf(tables: readonly TableShape[], lines: readonly MatrixLine[]): TableColumn[] {
  const done = new Map<string, Set<ActionName>>();
  for (const { table, action, reach } of lines.flatMap(({ cells }) => cells)) {
    if (reach === "none") continue;
    const actions = done.get(table) ?? new Set();
    done.set(table, actions.add(action));
  }
  const inOrder = groupBy(lines[0]?.cells ?? [], ({ table }) => table);
  return tables.map(({ name, label, count }) => {
    const actions = (inOrder.get(name) ?? []).map(({ action }) => action);
    return { name, label, count, actions: actions.filter((action) => done.get(name)?.has(action)) };
  });
}

export function matches(sought: string, texts: readonly string[]): boolean {
  const text = sought.trim().toLowerCase();
  return texts.some((one) => one.toLowerCase().includes(text));
}

const weights: Readonly<Record<Reach, number>> = { none: 0, own: 1, some: 2, all: 3 };

export function sorted(lines: readonly MatrixLine[], { by, isUp }: Order): readonly MatrixLine[] {
  const sign = isUp ? 1 : -1;
  const nameOf = ({ who }: MatrixLine) => who[0]?.name ?? "";
  const weightOf = ({ cells }: MatrixLine) =>
    cells.filter(({ table }) => table === by).reduce((sum, { reach }) => sum + weights[reach], 0);
  const countOf = ({ cells }: MatrixLine) =>
    cells.filter(({ table }) => table === by).reduce((sum, { count = 0 }) => sum + count, 0);
  return [...lines].sort((a, b) => {
    const byTable = by === undefined ? 0 : sign * (weightOf(a) - weightOf(b) || countOf(a) - countOf(b));
    return byTable || (by === undefined ? sign : 1) * nameOf(a).localeCompare(nameOf(b));
  });
}
