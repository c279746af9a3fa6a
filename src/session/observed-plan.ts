import { always } from "../conditions/expression.js";
import { type ActionName, actionOf } from "../rules/actions.js";
import type { KnownTables, Table } from "../schema/schema.js";
import { Plan, type TablePlan } from "./plan.js";
import type { SessionParts } from "./session-parts.js";
import type { StepData } from "./step.js";

/**
 * A plan under which nothing of the observed tables is refused or hidden. All others are as they were, with what their rules
 * and lookups ask of the observed ones: what is decided about them does not change.
 */
export class ObservedPlan extends Plan {
  readonly #enforced: Plan;

  constructor(schema: KnownTables, enforced: Plan) {
    super(schema, everythingPermitted);
    this.#enforced = enforced;
  }

  override of(name: string): TablePlan {
    return this.table(name)?.observe === true ? super.of(name) : this.#enforced.of(name);
  }

  override judged(name: string): TablePlan {
    return this.#enforced.judged(name);
  }
}

function everythingPermitted(table: Table, name: ActionName): readonly StepData[] {
  const action = actionOf(table, name);
  if (action === undefined) return [];
  const { target, judges, writes } = action;
  const fields = target === "record" ? [] : table.fields.filter(({ computed }) => !(writes && computed));
  return [
    {
      rule: `${table.name}/observe`,
      effect: "permit",
      note: undefined,
      extent: { fields: new Set(fields), act: target !== "fields", cells: undefined },
      who: always,
      where: always,
      after: judges === "change" ? always : undefined,
      hasBecomes: false,
      alsoAfter: false,
      isCrossing: false,
      isOwners: false,
    },
  ];
}

/** A session's parts with the observed tables open. */
export function observedParts(
  parts: SessionParts,
  schema: KnownTables,
): SessionParts & { stated: SessionParts["stated"] } {
  let decided: Plan | undefined;
  const { people, key, actedBy, reading, onDiagnostic, messages } = parts;
  return {
    ...{ people, key, actedBy, reading, onDiagnostic, messages },
    plan: new ObservedPlan(schema, parts.plan),
    decided: () => {
      decided ??= new ObservedPlan(schema, parts.decided());
      return decided;
    },
    roles: () => parts.roles(),
    guard: (make) => parts.guard(make),
    standard: (field) => parts.standard(field),
    screens: (reach) => parts.screens(reach),
    stated: undefined,
    get origin() {
      return parts.origin;
    },
  };
}
