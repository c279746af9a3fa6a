import { type ActionName, actionNamesOf, actionOf, countingFor, speaksOfFields } from "../rules/actions.js";
import type { Field, Table } from "../schema/schema.js";
import { encode } from "../session/encoding.js";
import { internals } from "../session/internals.js";
import type { Reach } from "../session/reach.js";
import { residualSteps } from "../session/residual.js";
import type { Session } from "../session/session.js";

import type { StepData } from "../session/step.js";

export interface Asked {
  readonly table: Table;
  readonly action: ActionName;
  readonly field: Field | undefined;
}

/**
 * The tables where the rules come to something else. What a table's conditions ask of other tables is not looked into:
 * where they ask for anything, a difference anywhere counts. `changed` names the one table whose rules are not the same,
 * where that is known.
 */
export function tablesThatDiffer(before: Session, after: Session, changed?: string): Table[] {
  const [was, is] = [before, after].map((session) => internals(session).ruleset.schema.tables) as [Tables, Tables];
  const tables = [...is.values(), ...[...was.values()].filter(({ name }) => !is.has(name))];
  const plans = tables.map((table) => {
    const actions = actionsOf(before, after, table);
    const one = planText(before, table, actions);
    const other = changed === undefined || changed === table.name ? planText(after, table, actions) : one;
    const looks = (text: string) =>
      /"kind":"(?:may|exists|person|line)"/.test(text) || table.fields.some((f) => f.lookup);
    return { table, differs: one !== other, looksElsewhere: looks(one) || (other !== one && looks(other)) };
  });
  const isAnywhere = plans.some(({ differs }) => differs);
  return plans.filter((one) => one.differs || (isAnywhere && one.looksElsewhere)).map(({ table }) => table);
}

type Tables = ReadonlyMap<string, Table>;

/** The actions of a table in either document. */
export function actionsOf(before: Session, after: Session, table: Table): readonly ActionName[] {
  const own = [before, after].flatMap((session) => {
    const found = internals(session).ruleset.schema.tables.get(table.name);
    return found === undefined ? [] : actionNamesOf(found);
  });
  return [...new Set(own)];
}

/** What an action is asked of: each field of the table, or for what is done with a record as a whole, the record. */
export function askedOf(
  before: Session,
  after: Session,
  table: Table,
  action: ActionName,
): readonly (Field | undefined)[] {
  const isOfFields = [before, after].some((session) => {
    const found = internals(session).ruleset.schema.tables.get(table.name);
    return found !== undefined && speaksOfFields(found, action);
  });
  return isOfFields ? fieldsOf(before, after, table) : [undefined];
}

/** The fields of a table in either document, those that are gone behind the others. */
function fieldsOf(before: Session, after: Session, table: Table): readonly Field[] {
  const [was, is] = [before, after].map((session) => {
    return internals(session).ruleset.schema.tables.get(table.name)?.fields ?? [];
  }) as [readonly Field[], readonly Field[]];
  return [...is, ...was.filter(({ name }) => !is.some((field) => field.name === name))];
}

/** Whether a session's document has something; what it does not have, nobody may. */
export function knows(session: Session, { table, action, field }: Asked): boolean {
  const own = internals(session).ruleset.schema.tables.get(table.name);
  const hasAction = own !== undefined && actionOf(own, action) !== undefined;
  return hasAction && (field === undefined || own.byName.has(field.name));
}

export function reachOf(session: Session, asked: Asked): Reach {
  return knows(session, asked) ? session.reach(asked.action, asked.table.name, asked.field?.name) : "none";
}

/** What was worked out for a session: one that is compared with many others is looked at once. */
const planTexts = new WeakMap<Session, Map<string, string>>();

function planText(session: Session, table: Table, actions: readonly ActionName[]): string {
  const known = planTexts.get(session) ?? new Map<string, string>();
  planTexts.set(session, known);
  const key = `${table.name} ${actions.join(" ")}`;
  const text =
    known.get(key) ?? JSON.stringify(actions.map((action) => stepsOf(session, table.name, action).map(encode)));
  known.set(key, text);
  return text;
}

/** What is left of the rules for an action, or for one field of it, as a text: equal texts decide the same. */
export function residualText(session: Session, table: string, action: ActionName, field?: string): string {
  const asked = internals(session)
    .ruleset.schema.tables.get(table)
    ?.byName.get(field ?? "");
  return decidingText(stepsOf(session, table, action, field), asked);
}

/** What of some steps decides about one field, or about the act: neither their names nor what else they cover. */
function decidingText(steps: readonly StepData[], field: Field | undefined): string {
  const deciding = steps.map(({ rule: _rule, note: _note, extent, ...step }) => {
    const { act, cells } = extent;
    const rows = field === undefined ? cells && [[...cells.rowsOf.values()], cells.held] : cells?.rowsOf.get(field);
    return JSON.stringify(encode({ ...step, act: field === undefined && act, rows }));
  });
  return deciding.sort().join("\n");
}

/** The same of the rules that look at what a record becomes. */
export function becomesText(session: Session, { table, action, field }: Asked): string {
  const steps = stepsOf(session, table.name, action, field?.name);
  const own = field && internals(session).ruleset.schema.tables.get(table.name)?.byName.get(field.name);
  return decidingText(
    steps.filter(({ hasBecomes, alsoAfter }) => hasBecomes || alsoAfter),
    own,
  );
}

function stepsOf(session: Session, table: string, action: ActionName, field?: string): readonly StepData[] {
  const { ruleset, subject } = internals(session);
  const own = ruleset.schema.tables.get(table);
  if (own === undefined) return [];
  const asked = field === undefined ? undefined : own.byName.get(field);
  return residualSteps(ruleset, subject)(own, action).filter(
    (step) => asked === undefined || step.extent.fields.has(asked),
  );
}

/** Whether what is left of the rules for an action, or one field of it, is the same for two sessions. */
export function isAlike(
  before: Session,
  after: Session,
  table: string,
  action: ActionName,
  field: string | undefined,
): boolean {
  return countingFor(action).every(
    (one) => residualText(before, table, one, field) === residualText(after, table, one, field),
  );
}

/** Lists of what has the same key, in the order in which each is first met. */
export function groupBy<T>(items: readonly T[], keyOf: (item: T) => unknown): T[][] {
  const groups = new Map<string, T[]>();
  for (const item of items) {
    const key = JSON.stringify(keyOf(item));
    const group = groups.get(key);
    if (group === undefined) groups.set(key, [item]);
    else group.push(item);
  }
  return [...groups.values()];
}
