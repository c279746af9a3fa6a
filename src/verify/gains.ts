import type { Row } from "../conditions/source.js";
import { type ActionName, actionNamesOf, actionOf, isBuiltIn } from "../rules/actions.js";
import { recordAddress } from "../schema/address.js";
import type { Field, Table } from "../schema/schema.js";
import { insidesOf } from "../session/portier.js";
import { type Reach, reachOrder } from "../session/reach.js";
import { residualSteps } from "../session/residual.js";
import type { Session } from "../session/session.js";
import { encode } from "../session/snapshot.js";
import type { StepData } from "../session/step.js";
import type { Viewer } from "./viewers.js";

/** Something that somebody may do after a change and might not before, or the other way round. */
export interface AccessChange {
  readonly table: string;
  /** The actions that it is the same for, such as list and view. */
  readonly actions: readonly ActionName[];
  /** The fields that it is about; empty for what is done with a record as a whole. */
  readonly fields: readonly string[];
  /** On how many records; undefined for making new ones. */
  readonly records: number | undefined;
  /** How many records there are. */
  readonly of: number;
  /** The addresses of some of them, three at most. */
  readonly samples: readonly string[];
  /** Whether one of the fields is marked sensitive. */
  readonly sensitive: boolean;
}

export interface AccessDifference {
  readonly gains: readonly AccessChange[];
  readonly losses: readonly AccessChange[];
}

/** All records of a table, where they are at hand. */
export type AllRecords = (table: string) => Iterable<Row>;

/** How many addresses are told. */
const sampleCount = 3;

/**
 * What one session may and another may not, per table, action and field, counted on real records. The sessions may be
 * of one person before and after a change of roles, or under two documents.
 */
export function accessDifference(before: Session, after: Session, records: AllRecords): AccessDifference {
  const gained: Difference[] = [];
  const lost: Difference[] = [];
  for (const table of tablesThatDiffer(before, after)) {
    const rows = [...records(table.name)];
    for (const action of actionsOf(before, after, table)) {
      for (const field of isAct(action) ? [undefined] : table.fields) {
        const { more, less } = compareAnswers(before, after, { table, action, field }, rows);
        const line = { table, action, field, of: rows.length };
        if (more.length > 0) gained.push({ ...line, records: more });
        if (less.length > 0) lost.push({ ...line, records: less });
      }
    }
  }
  return { gains: grouped(gained), losses: grouped(lost) };
}

/** What some persons gain and lose alike. */
export interface SharedDifference extends AccessDifference {
  /** Their keys; `visitor` for whoever is not signed in. */
  readonly persons: readonly string[];
}

/**
 * What everybody gains and loses between two states, such as before and after a change of the rules: the viewers of the
 * one and of the other, matched by their ids. Those for whom nothing changes are left out, equal ones share an entry.
 */
export function everybodysDifference(
  before: readonly Viewer[],
  after: readonly Viewer[],
  records: AllRecords,
): SharedDifference[] {
  const was = new Map(before.map((viewer) => [viewer.id, viewer]));
  const differences = after.flatMap(({ id, session }) => {
    const viewer = was.get(id);
    return viewer === undefined ? [] : [{ id, ...accessDifference(viewer.session, session, records) }];
  });
  const changed = differences.filter(({ gains, losses }) => gains.length + losses.length > 0);
  return groupBy(changed, ({ gains, losses }) => [gains, losses]).flatMap((alike) => {
    const [first] = alike;
    return first === undefined
      ? []
      : [{ persons: alike.map(({ id }) => id), gains: first.gains, losses: first.losses }];
  });
}

/**
 * The tables where the rules come to something else. What a table's conditions ask of other tables is not looked into:
 * where they ask for anything, a difference anywhere counts.
 */
function tablesThatDiffer(before: Session, after: Session): Table[] {
  const [was, is] = [before, after].map((session) => insidesOf(session).ruleset.schema.tables) as [Tables, Tables];
  const tables = [...is.values(), ...[...was.values()].filter(({ name }) => !is.has(name))];
  const plans = tables.map((table) => {
    const actions = actionsOf(before, after, table);
    const [one, other] = [before, after].map((session) => planText(session, table, actions)) as [string, string];
    const looksElsewhere = (text: string) => /"kind":"(?:may|exists)"/.test(text) || table.fields.some((f) => f.lookup);
    return { table, differs: one !== other, looksElsewhere: looksElsewhere(one) || looksElsewhere(other) };
  });
  const isAnywhere = plans.some(({ differs }) => differs);
  return plans.filter((one) => one.differs || (isAnywhere && one.looksElsewhere)).map(({ table }) => table);
}

type Tables = ReadonlyMap<string, Table>;

/** Whether it is done with a record as a whole: deleting, and what tables declare. */
function isAct(action: ActionName): boolean {
  return !isBuiltIn(action) || action === "delete";
}

/** The actions of a table in either document. */
function actionsOf(before: Session, after: Session, table: Table): readonly ActionName[] {
  const own = [before, after].flatMap((session) => {
    const found = insidesOf(session).ruleset.schema.tables.get(table.name);
    return found === undefined ? [] : actionNamesOf(found);
  });
  return [...new Set(own)];
}

/** Whether a session's document has something; what it does not have, nobody may. */
function knows(session: Session, { table, action, field }: Asked): boolean {
  const own = insidesOf(session).ruleset.schema.tables.get(table.name);
  const hasAction = own !== undefined && actionOf(own, action) !== undefined;
  return hasAction && (field === undefined || own.byName.has(field.name));
}

function reachOf(session: Session, asked: Asked): Reach {
  return knows(session, asked) ? session.reach(asked.action, asked.table.name, asked.field?.name) : "none";
}

function planText(session: Session, table: Table, actions: readonly ActionName[]): string {
  return JSON.stringify(actions.map((action) => residualText(session, table.name, action)));
}

/** What is left of the rules for an action, or for one field of it, as a text: equal texts decide the same. */
export function residualText(session: Session, table: string, action: ActionName, field?: string): string {
  return JSON.stringify(stepsOf(session, table, action, field).map(encode));
}

/** The same of the rules that look at what a record becomes. */
function becomesText(session: Session, { table, action, field }: Asked): string {
  const steps = stepsOf(session, table.name, action, field?.name);
  return JSON.stringify(steps.filter(({ hasBecomes, bothWays }) => hasBecomes || bothWays).map(encode));
}

function stepsOf(session: Session, table: string, action: ActionName, field: string | undefined): readonly StepData[] {
  const { ruleset, subject } = insidesOf(session);
  const own = ruleset.schema.tables.get(table);
  if (own === undefined) return [];
  const asked = field === undefined ? undefined : own.byName.get(field);
  return residualSteps(ruleset, subject)(own, action).filter(
    (step) => asked === undefined || step.extent.fields.has(asked),
  );
}

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
      const fields = isAct(action) ? [undefined] : table.fields;
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

/** Whether what is left of the rules for an action, or one field of it, is the same for two sessions. */
export function isAlike(
  before: Session,
  after: Session,
  table: string,
  action: ActionName,
  field: string | undefined,
): boolean {
  // What is viewed is listed, too.
  const asked = action === "list" ? (["list", "view"] as const) : [action];
  return asked.every((one) => residualText(before, table, one, field) === residualText(after, table, one, field));
}

interface Asked {
  readonly table: Table;
  readonly action: ActionName;
  readonly field: Field | undefined;
}

/** Records on which one session may do something that the other may not. */
interface Difference extends Asked {
  /** Their addresses; of making new ones, one that is empty. */
  readonly records: readonly string[];
  readonly of: number;
}

function compareAnswers(
  before: Session,
  after: Session,
  { table, action, field }: Asked,
  rows: readonly Row[],
): { readonly more: readonly string[]; readonly less: readonly string[] } {
  const name = field?.name;
  const asked = { table, action, field };
  const isOpen = [before, after].some((session) => reachOf(session, asked) !== "none");
  const more: string[] = [];
  const less: string[] = [];
  if (!isOpen) return { more, less };
  const sessions = [before, after].map((session) => (knows(session, asked) ? session : undefined));
  const compare = (row: Row | undefined, address: string) => {
    const [was, is] = sessions.map((session) => session?.may(action, table.name, row, name) === true);
    if (was !== is) (was ? less : more).push(address);
  };
  if (isNew(table, action)) compare(undefined, "");
  else for (const row of rows) compare(row, recordAddress(table, row) ?? "?");
  return { more, less };
}

function isNew(table: Table, action: ActionName): boolean {
  return actionOf(table, action)?.judges === "new";
}

/** Fields that differ on the same records share a line, and so do actions on the same fields. */
function grouped(differences: readonly Difference[]): AccessChange[] {
  const isSensitive = ({ field }: Difference) => field?.sensitive === true;
  const byFields = groupBy(differences, (one) => [one.table.name, one.action, one.records, isSensitive(one)]);
  const fieldsOf = (line: readonly Difference[]) =>
    line.flatMap(({ field }) => (field === undefined ? [] : [field.name]));
  const byActions = groupBy(byFields, (line) => [line[0]?.table.name, fieldsOf(line), line[0]?.records]);
  return byActions.flatMap((lines) => {
    const line = lines[0] ?? [];
    const [first] = line;
    if (first === undefined) return [];
    const { table, action, records, of } = first;
    const isMade = isNew(table, action);
    return [
      {
        table: table.name,
        actions: lines.flatMap(([one]) => (one === undefined ? [] : [one.action])),
        fields: fieldsOf(line),
        records: isMade ? undefined : records.length,
        of,
        samples: isMade ? [] : records.slice(0, sampleCount),
        sensitive: isSensitive(first),
      },
    ];
  });
}

/** Lists of what has the same key, in the order in which each is first met. */
function groupBy<T>(items: readonly T[], keyOf: (item: T) => unknown): T[][] {
  const groups = new Map<string, T[]>();
  for (const item of items) {
    const key = JSON.stringify(keyOf(item));
    const group = groups.get(key);
    if (group === undefined) groups.set(key, [item]);
    else group.push(item);
  }
  return [...groups.values()];
}
