import { type Expression, operandsWithin, visitTests } from "../conditions/expression.js";
import { actionNamesOf } from "../rules/actions.js";
import type { Ruleset } from "../rules/ruleset.js";
import type { Field, FieldPath, Schema, Table } from "../schema/schema.js";
import { checkOf } from "./check.js";
import { withDecided } from "./decided.js";
import { encode, encodeTable } from "./encoding.js";
import { internals } from "./internals.js";
import { residualSteps } from "./residual.js";
import { roleBearing } from "./roles/bearing.js";
import type { ShownScreens } from "./screens.js";
import type { Session } from "./session.js";

import type { Snapshot } from "./snapshot.js";
import type { StepData } from "./step.js";

export interface NewSnapshotOptions {
  /** What the application calls the rules that count now; {@link openSnapshot} can ask for the same. */
  readonly version?: string;
  /** Until when it may be opened. What is decided once, such as what depends on the day, is as it was when it was made. */
  readonly expiresAt?: Date | string;
}

/**
 * The person's residual plan for some tables (default: all), as plain JSON for a browser. It holds what is left of the
 * rules for this person: conditions on records, notes, names of rules and fields of these tables, and of tables that
 * their conditions and lookups read.
 *
 * @throws PortierError for a table that the document does not have, and for a plan that cannot be made (the person's own
 * records could not be read).
 */
export function snapshotOf(
  session: Session,
  tables?: readonly string[],
  { version, expiresAt }: NewSnapshotOptions = {},
): Snapshot {
  const { ruleset, subject, plan, reading } = internals(session);
  const { schema } = ruleset;
  const wanted = new Set((tables ?? [...schema.tables.keys()]).map((name) => plan.of(name).table));
  const source = residualSteps(ruleset, withDecided(subject, plan, reading));
  const steps: Record<string, Record<string, readonly unknown[]>> = {};
  // The set grows while it is walked: each table's conditions may lead to further ones.
  for (const table of wanted) {
    const own: Record<string, readonly unknown[]> = {};
    for (const action of actionNamesOf(table)) {
      const data = source(table, action);
      for (const other of tablesRead(table, data, schema)) wanted.add(other);
      if (data.length > 0) own[action] = data.map((step) => encode(withoutRanges(step)));
    }
    steps[table.name] = own;
  }
  const content: Omit<Snapshot, "check"> = {
    portier: "snapshot 3",
    madeAt: new Date().toISOString(),
    ...(version === undefined ? {} : { version }),
    ...(expiresAt === undefined ? {} : { expiresAt: new Date(expiresAt).toISOString() }),
    people: schema.people?.table.name ?? null,
    key: subject.key ?? null,
    ...(session.actedBy === undefined ? {} : { actedBy: session.actedBy }),
    roles: session.roles,
    ...(ruleset.screens.size === 0 ? {} : { screens: shownOf(session) }),
    ...bearingOf(ruleset, wanted),
    tables: [...wanted].map(encodeTable),
    steps,
  };
  return { ...content, check: checkOf(content) };
}

function bearingOf(ruleset: Ruleset, tables: ReadonlySet<Table>): Pick<Snapshot, "bearing"> {
  const own = [...roleBearing(ruleset)].filter(([name]) => [...tables].some((table) => table.name === name));
  if (own.length === 0) return {};
  return { bearing: Object.fromEntries(own.map(([name, fields]) => [name, [...fields].map((field) => field.name)])) };
}

function shownOf(session: Session): ShownScreens {
  return { screens: session.screens(), home: session.home() };
}

/** Ranges as they were written are for lists; a plan needs only the rows that they come to. */
function withoutRanges(step: StepData): StepData {
  const { cells } = step.extent;
  return cells === undefined
    ? step
    : { ...step, extent: { ...step.extent, cells: { ...cells, ranges: [], except: [] } } };
}

/** The tables that a table's references, lookups and conditions lead to. */
function tablesRead(table: Table, steps: readonly StepData[], { tables }: Schema): Table[] {
  const names = new Set<string | undefined>();
  const addField = (field: Field) => {
    names.add(field.table);
    names.add(field.type.target ?? field.type.element?.target);
    if (field.lookup !== undefined) addField(field.lookup.field);
  };
  const addPath = (path: FieldPath) => path.forEach(addField);
  const addTests = (expression: Expression) =>
    visitTests(expression, (test) => {
      for (const operand of operandsWithin(test)) {
        if (operand.kind === "field" || operand.kind === "outer") addPath(operand.path);
      }
      if (test.kind === "above") addField(test.line);
      if (test.kind === "may") names.add(test.target);
      if (test.kind !== "exists") return;
      names.add(test.table);
      addTests(test.condition);
    });
  table.fields.forEach(addField);
  for (const { who, where, after } of steps) {
    for (const expression of [who, where, after]) if (expression !== undefined) addTests(expression);
  }
  return [...names].flatMap((name) => tables.get(name ?? "") ?? []);
}
