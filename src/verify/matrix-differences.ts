import type { ActionName } from "../rules/actions.js";
import { reachOrder } from "../session/reach.js";
import { isAlike } from "./compared-plans.js";
import type { MatrixRow } from "./matrix.js";

/** How a cell stands to the one of somebody else: `other` is as much, but by other conditions. Undefined: the same. */
export type CellDifference = "more" | "less" | "other";

export type CompareCell = (row: MatrixRow, action: ActionName) => CellDifference | undefined;

/** Compares the cells of a matrix with those of one of its viewers: by counts where there are any, else by reach. */
export function compareWith(rows: readonly MatrixRow[], id: string): CompareCell {
  const place = ({ table, field }: MatrixRow) => JSON.stringify([table, field]);
  const others = new Map(rows.filter(({ viewer }) => viewer.id === id).map((row) => [place(row), row]));
  return (row, action) => {
    const other = others.get(place(row));
    const [own, theirs] = [row.cells.get(action), other?.cells.get(action)];
    if (other === undefined || own === undefined || theirs === undefined || other.viewer === row.viewer)
      return undefined;
    const byReach = reachOrder.indexOf(own.reach) - reachOrder.indexOf(theirs.reach);
    const step =
      own.count !== undefined && theirs.count !== undefined && own.count !== theirs.count
        ? own.count - theirs.count
        : byReach;
    if (step !== 0) return step > 0 ? "more" : "less";
    const isDecided = own.reach === "all" || own.reach === "none";
    if (isDecided || own.count === 0) return undefined;
    return isAlike(other.viewer.session, row.viewer.session, row.table, action, row.field) ? undefined : "other";
  };
}
