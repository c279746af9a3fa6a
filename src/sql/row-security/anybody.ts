import type { Expression, Operand } from "../../conditions/expression.js";
import { always, and, not } from "../../conditions/expression.js";
import type { Rule } from "../../rules/rule.js";
import type { Ruleset } from "../../rules/ruleset.js";
import { type Schema, singleKey, type Table } from "../../schema/schema.js";
import { timestamp } from "../../schema/types/timestamp.js";
import { Plan } from "../../session/plan.js";
import { residualSteps } from "../../session/residual.js";
import type { Subject } from "../../session/subject.js";
import { settingsOfAnybody } from "./held-settings.js";

/** The plan of a document for the current user: all that only a session knows is left to the statement. */
export function planOfAnybody(ruleset: Ruleset): Plan {
  return new Plan(ruleset.schema, residualSteps(ruleset, anybody(ruleset)));
}

/** Anybody, of whom nothing is decided. That a person is there and active is asked once, around everything. */
function anybody(ruleset: Ruleset): Subject {
  const { schema } = ruleset;
  const made = new Map<Table, readonly Rule[]>();
  const subject: Subject = {
    meets: true,
    signedIn: isSomebody(schema),
    membership: (name) => ({ kind: "open", name }),
    inForce: ({ from, until }: Rule) => {
      const terms: Expression[] = [];
      if (from !== undefined) terms.push({ kind: "compare", op: ">=", left: now, right: instant(from) });
      if (until !== undefined) terms.push({ kind: "compare", op: "<", left: now, right: instant(until) });
      return and(terms);
    },
    known: (operand) => operand,
    settings: (table) => {
      const rules = made.get(table) ?? settingsOfAnybody(ruleset, subject, table);
      made.set(table, rules);
      return rules;
    },
  };
  return subject;
}

const now: Operand = { kind: "request", type: timestamp, name: "now" };

function instant(value: string): Operand {
  return { kind: "constant", type: timestamp, value };
}

/** Without people, every user is a visitor. */
function isSomebody({ people }: Schema): Expression {
  const me = people && personOperand(people.table);
  return me === undefined ? not(always) : not({ kind: "is-null", operand: me });
}

/** The key of the current user. */
export function personOperand(people: Parameters<typeof singleKey>[0]): Operand | undefined {
  const key = singleKey(people);
  return key && { kind: "me", type: key.type, path: [key] };
}
