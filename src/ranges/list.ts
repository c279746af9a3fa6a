import type { ActionName } from "../rules/actions.js";
import type { EffectName } from "../rules/effects.js";
import { protectionAddress } from "../rules/protections.js";
import { type CellRange, printRange } from "../rules/ranges.js";
import { internals } from "../session/internals.js";
import type { Portier } from "../session/portier.js";
import type { Session } from "../session/session.js";
import type { SessionOrigin } from "../session/session-parts.js";

/** A cell range that a rule speaks of, and who keeps it. */
export interface KeptRange {
  /** In A1 notation. */
  readonly range: string;
  /** The name that the table gives to this range, where it has one. */
  readonly name: string | undefined;
  /** The address of the rule. */
  readonly rule: string;
  /** The id of the protection that it is, where it is data and no rule of the document. */
  readonly protection: string | undefined;
  readonly effect: EffectName;
  readonly action: ActionName;
  /** The rule's `to`: for a reserve those who keep what they may, for a permit those who are let in. */
  readonly to: readonly string[];
  readonly without: readonly string[];
  /** Cells that are taken out again. */
  readonly except: readonly string[];
  readonly note: string | undefined;
  /** Instants in UTC between which the rule is there. */
  readonly from: string | undefined;
  readonly until: string | undefined;
}

/**
 * All ranges that the rules of a table speak of, in the order of the rules' addresses; none for a table without a grid. Of a
 * session, what people protected is among them, as it counts for that session.
 */
export function keptRanges(of: Portier | Session, table: string): KeptRange[] {
  const { rules, ranges } = internals<Pick<SessionOrigin, "ruleset">>(of).ruleset;
  const prefix = protectionAddress(table, "");
  const named = [...(ranges.get(table) ?? new Map<string, CellRange>())];
  const found: KeptRange[] = [];
  for (const rule of rules.filter((one) => one.table.name === table)) {
    for (const [action, { cells }] of rule.extents) {
      for (const range of cells?.ranges ?? []) {
        found.push({
          range: printRange(range),
          name: named.find(([, one]) => printRange(one) === printRange(range))?.[0],
          rule: rule.address,
          protection: rule.address.startsWith(prefix) ? rule.address.slice(prefix.length) : undefined,
          effect: rule.effect.name,
          action,
          to: rule.to.map(({ text }) => text),
          without: rule.except.map(({ text }) => text),
          except: (cells?.except ?? []).map(printRange),
          note: rule.note,
          from: rule.from,
          until: rule.until,
        });
      }
    }
  }
  return found;
}
