import { type Expression, operandsWithin, personConditions, visitTests } from "../conditions/expression.js";
import { specialize } from "../conditions/specialize.js";
import { actionNamesOf } from "../rules/actions.js";
import type { Ruleset } from "../rules/ruleset.js";
import { type Field, findTable, type Table } from "../schema/schema.js";
import { checksumOf, snapshotChecksum } from "./checksum.js";
import { decidedSteps } from "./decided.js";
import { encode, encodeTable } from "./encoding.js";
import { internals } from "./internals.js";
import { roleBearing } from "./roles/bearing.js";
import type { ShownScreens } from "./screens.js";
import type { Session } from "./session.js";
import type { Snapshot } from "./snapshot.js";
import type { StepData } from "./step.js";

/** How a snapshot is made. */
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
  const { ruleset, plan, reading, values } = internals(session);
  const { schema } = ruleset;
  const wanted = new Set((tables ?? [...schema.tables.keys()]).map((name) => plan.of(name).table));
  const left = decidedSteps(plan, reading);
  const steps: Record<string, Record<string, readonly unknown[]>> = {};
  const slots = new Set<number>();
  const kept = new Set<Table>();
  const addRead = (name: string) => {
    const table = findTable(schema, name);
    if (table !== undefined) (schema.tables.has(name) ? wanted : kept).add(table);
  };
  // The set grows while it is walked: each table's conditions may lead to further ones.
  for (const table of wanted) {
    const own: Record<string, readonly unknown[]> = {};
    const { reads } = sentTable(table);
    for (const name of reads) addRead(name);
    for (const action of actionNamesOf(table)) {
      const sent = sentSteps(left(table, action));
      for (const name of sent.reads) addRead(name);
      for (const slot of sent.slots) slots.add(slot);
      if (sent.encoded.length > 0) own[action] = sent.encoded;
    }
    steps[table.name] = own;
  }
  const standard = standardValues(session, [...wanted]);
  const content: Omit<Snapshot, "check"> = {
    portier: "snapshot 4",
    madeAt: new Date().toISOString(),
    ...(version === undefined ? {} : { version }),
    ...(expiresAt === undefined ? {} : { expiresAt: new Date(expiresAt).toISOString() }),
    people: schema.people?.table.name ?? null,
    key: internals(session).parts.key ?? null,
    ...(session.actedBy === undefined ? {} : { actedBy: session.actedBy }),
    roles: session.roles,
    ...(ruleset.screens.size === 0 ? {} : { screens: shownOf(session) }),
    ...bearingOf(ruleset, wanted),
    // What nothing that is sent reads is nobody's to know, nor how much of it there is.
    values: Array.from({ length: Math.max(-1, ...slots) + 1 }, (_, slot) =>
      slots.has(slot) ? (values?.[slot] ?? null) : null,
    ),
    ...(Object.keys(standard).length === 0 ? {} : { standard }),
    tables: [...wanted].map((table) => sentTable(table).encoded),
    ...(kept.size === 0 ? {} : { kept: [...kept].map((table) => sentTable(table).encoded) }),
    steps,
  };
  return { ...content, check: snapshotChecksum(content, checkOnce) };
}

/** What new records hold of the person. A sensitive one is left out: a browser takes what it is not told for unknown. */
function standardValues(session: Session, tables: readonly Table[]): NonNullable<Snapshot["standard"]> {
  const { parts } = internals(session);
  const ofTable = ({ name, fields }: Table) => {
    const own = fields.filter(({ defaultFrom, sensitive }) => defaultFrom !== undefined && !sensitive);
    const values = own.map((field) => [field.name, parts.standard(field)] as const);
    return [name, Object.fromEntries(values.filter(([, value]) => value !== undefined))] as const;
  };
  const known = tables.map(ofTable).filter(([, values]) => Object.keys(values).length > 0);
  return Object.fromEntries(known) as NonNullable<Snapshot["standard"]>;
}

function addTo<V>(set: Set<V>, value: V | undefined): void {
  if (value !== undefined) set.add(value);
}

/** A part as it is sent, with the tables that it leads to and the session's values that it reads. */
interface Sent<E> {
  readonly encoded: E;
  readonly reads: ReadonlySet<string>;
  readonly slots: ReadonlySet<number>;
}

// Tables are everybody's, and most steps those of all who are alike: each is encoded once, and nobody may write into it.
const tablesSent = new WeakMap<Table, Sent<unknown>>();
const stepsSent = new WeakMap<readonly StepData[], Sent<readonly unknown[]>>();
const checks = new WeakMap<object, string>();

function checkOnce(part: unknown): string {
  if (typeof part !== "object" || part === null) return checksumOf(part);
  const check = checks.get(part) ?? checksumOf(part);
  checks.set(part, check);
  return check;
}

function sentTable(table: Table): Sent<unknown> {
  const known = tablesSent.get(table);
  if (known !== undefined) return known;
  const reads = new Set<string>();
  for (const field of table.fields) addField(reads, field);
  const sent = { encoded: frozen(encodeTable(table, true)), reads, slots: new Set<number>() };
  tablesSent.set(table, sent);
  return sent;
}

function sentSteps(steps: readonly StepData[]): Sent<readonly unknown[]> {
  const known = stepsSent.get(steps);
  if (known !== undefined) return known;
  const [reads, slots] = [new Set<string>(), new Set<number>()];
  for (const { who, where, after } of steps) {
    for (const expression of [who, where, after]) if (expression !== undefined) addTests(reads, slots, expression);
  }
  const encoded = frozen(steps.map((step) => encode(withoutNames(withoutRanges(step)))));
  const sent = { encoded, reads, slots };
  stepsSent.set(steps, sent);
  return sent;
}

function frozen<V>(value: V): V {
  if (typeof value === "object" && value !== null) {
    Object.values(value).forEach(frozen);
    Object.freeze(value);
  }
  return value;
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

/** Values that come along need no names: what they are of the person is not told. */
function withoutNames(step: StepData): StepData {
  const nameless = (expression: Expression) =>
    specialize(expression, ({ type, slot }) =>
      slot === undefined ? { kind: "unreadable", type } : { kind: "request", type, name: "", slot },
    );
  const { who, where, after } = step;
  return { ...step, who: nameless(who), where: nameless(where), after: after && nameless(after) };
}

/** The tables that a field leads to, through a lookup, too. */
function addField(reads: Set<string>, field: Field): void {
  reads.add(field.table);
  addTo(reads, field.type.target ?? field.type.element?.target);
  if (field.lookup !== undefined) addField(reads, field.lookup.field);
}

function addTests(reads: Set<string>, slots: Set<number>, expression: Expression): void {
  visitTests(expression, (test) => {
    for (const operand of operandsWithin(test)) {
      if (operand.kind === "field" || operand.kind === "outer" || operand.kind === "around")
        for (const field of operand.path) addField(reads, field);
      if ("slot" in operand) addTo(slots, operand.slot);
    }
    if (test.kind === "above") addField(reads, test.line);
    if (test.kind === "may") reads.add(test.target);
    if (test.kind === "line") addField(reads, test.line);
    if (test.kind === "person") {
      reads.add(test.people);
      if (test.here !== undefined) addTests(reads, slots, test.here);
    }
    for (const condition of personConditions(test)) addTests(reads, slots, condition);
    if (test.kind !== "exists") return;
    reads.add(test.table);
    addTests(reads, slots, test.condition);
  });
}
