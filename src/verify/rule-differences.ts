import type { ActionName } from "../rules/actions.js";
import { type Reach, reachOrder } from "../session/reach.js";
import type { Session } from "../session/session.js";
import { actionsOf, askedOf, becomesText, groupBy, isAlike, reachOf, tablesThatDiffer } from "./compared-plans.js";
import type { Viewer } from "./viewers.js";

/** What the rules come to for the holders of some roles, or a visitor, whatever is stored. */
export interface RuleDifference {
  /** The roles, or `visitor`. */
  readonly who: readonly string[];
  readonly table: string;
  /** The actions and fields for which it is the same; no fields for what is done with a record as a whole. */
  readonly actions: readonly ActionName[];
  readonly fields: readonly string[];
  readonly before: Reach;
  readonly after: Reach;
  /**
   * `more` and `less` where the reach says so; `other` where both depend on the record, by other conditions: which of them
   * is wider only records can tell.
   */
  readonly change: "more" | "less" | "other";
  /** Whether what a change must lead to is different: no look at records shows that, only judging a change. */
  readonly isTentative: boolean;
}

/**
 * What two documents say differently, by what is left of their rules for each viewer, without any record: viewers of the
 * one and the other, matched by their ids.
 */
export function ruleDifferences(before: readonly Viewer[], after: readonly Viewer[]): RuleDifference[] {
  const was = new Map(before.map((viewer) => [viewer.id, viewer]));
  const found = after.flatMap((viewer) => {
    const other = was.get(viewer.id);
    return other === undefined ? [] : differencesOf(viewer.id, other.session, viewer.session);
  });
  const alike = (one: RuleDifference) => [one.table, one.before, one.after, one.change, one.isTentative];
  const byFields = joined(found, (one) => [...alike(one), one.who, one.actions], "fields");
  const byActions = joined(byFields, (one) => [...alike(one), one.who, one.fields], "actions");
  return joined(byActions, (one) => [...alike(one), one.fields, one.actions], "who");
}

/** Those that are the same but for one list become one, with what all of them have in that list. */
function joined(
  found: readonly RuleDifference[],
  keyOf: (one: RuleDifference) => unknown,
  list: "who" | "actions" | "fields",
): RuleDifference[] {
  return groupBy(found, keyOf).flatMap((same) => {
    const [first] = same;
    return first === undefined ? [] : [{ ...first, [list]: same.flatMap((one) => one[list]) }];
  });
}

function differencesOf(who: string, before: Session, after: Session): RuleDifference[] {
  return tablesThatDiffer(before, after).flatMap((table) =>
    actionsOf(before, after, table).flatMap((action) => {
      const fields = askedOf(before, after, table, action);
      return fields.flatMap((field): RuleDifference[] => {
        const name = field?.name;
        const asked = { table, action, field };
        const [was, is] = [before, after].map((session) => reachOf(session, asked)) as [Reach, Reach];
        const step = reachOrder.indexOf(is) - reachOrder.indexOf(was);
        const isDecided = was === "none" || was === "all";
        const isTentative = becomesText(before, asked) !== becomesText(after, asked);
        const isSame = isDecided || isAlike(before, after, table.name, action, name);
        if (step === 0 && isSame && (!isTentative || is === "none")) return [];
        const change = step === 0 ? "other" : step > 0 ? "more" : "less";
        const about = { who: [who], table: table.name, actions: [action], fields: name === undefined ? [] : [name] };
        return [{ ...about, before: was, after: is, change, isTentative }];
      });
    }),
  );
}
