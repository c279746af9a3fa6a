import { compileTest, type Judge, type Test } from "../conditions/evaluate.js";
import { and, type Expression, or } from "../conditions/expression.js";
import { False, Unknown } from "../conditions/truth.js";
import { type ActionName, isBuiltIn } from "../rules/actions.js";
import { type Field, isOwn } from "../schema/schema.js";
import type { Gate } from "./gate.js";
import type { TableGates } from "./table-gates.js";

/**
 * Whether an action is permitted on a record, as a truth value: {@link Bad} where only bad data keeps a yes from being
 * certain. For `may`, which must tell; an action on fields asks for any field.
 */
export function compileTruth(plan: TableGates, action: ActionName): Test {
  const judge: Judge = (asked, table) => compileTruth(plan.other(table), asked);
  const test = compileTest(conditionOf(plan, action), judge);
  return (row, reading) => {
    const truth = test(row, reading);
    return truth === Unknown ? False : truth;
  };
}

/**
 * What decides about a record as a whole, as one condition: it is true exactly where the decision permits. For `may`, and for
 * what cannot call the closures of a plan, such as a database. Every "not" stands at a single test.
 */
export function conditionOf(plan: TableGates, action: ActionName): Expression {
  if (!isBuiltIn(action)) return and([known(plan), plan.act(action).condition()]);
  switch (action) {
    case "list":
    case "view":
      return anyOf(plan.seen(action).visible);
    case "export":
      return exported(plan);
    case "edit":
      return and([known(plan), or(plan.fields(action).distinct.map((gate) => gate.attemptCondition()))]);
    case "bulk":
      return and([known(plan), bulkEdited(plan)]);
    case "delete":
      return and([known(plan), plan.act(action).condition()]);
    case "create":
      return plan.act(action).condition();
    case "import":
      return and([plan.act("create").condition(), plan.act(action).condition()]);
    default:
      return action satisfies never;
  }
}

function anyOf(gates: readonly Gate[]): Expression {
  return or(gates.map((gate) => gate.condition()));
}

/** Whether a record is known: any field of it is listed or viewed. */
export function known(plan: TableGates): Expression {
  return or([anyOf(plan.seen("list").visible), anyOf(plan.seen("view").visible)]);
}

/** Some field is viewed and exported, each by its own rules; the key is viewed with any. */
function exported(plan: TableGates): Expression {
  const seen = plan.seen("view");
  const { gates } = plan.fields("export");
  const each = (field: Field): Expression => {
    const out = (gates[field.index] as Gate).condition();
    const view = plan.table.key.includes(field) ? anyOf(seen.visible) : (seen.gates[field.index] as Gate).condition();
    return and([view, out]);
  };
  return or(plan.table.fields.filter(isOwn).map(each));
}

function bulkEdited(plan: TableGates): Expression {
  const edit = plan.fields("edit").gates;
  const bulk = plan.fields("bulk").gates;
  const each = ({ index }: Field) =>
    and([(edit[index] as Gate).attemptCondition(), (bulk[index] as Gate).attemptCondition()]);
  return or(plan.table.fields.filter(isOwn).map(each));
}
