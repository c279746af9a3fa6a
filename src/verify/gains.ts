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
import { PermittedSets } from "./permitted-sets.js";
import { positionsOf, type RecordSet, without } from "./record-sets.js";
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
  return differenceOf(before, after, new ComparedRecords(records));
}

/**
 * The records that two states are compared on. The sessions of each side read one source; what they have in common is
 * asked once of each record.
 */
export class ComparedRecords {
  readonly #records: AllRecords;
  readonly #rows: Map<string, readonly Row[]>;
  readonly #before: Map<string, PermittedSets>;
  readonly #after = new Map<string, PermittedSets>();

  /** With `other`, one that has the same state before: what was found out about that is found once. */
  constructor(records: AllRecords, other?: ComparedRecords) {
    this.#records = records;
    this.#before = other === undefined ? new Map() : other.#before;
    this.#rows = other === undefined ? new Map() : other.#rows;
  }

  rowsOf(table: string): readonly Row[] {
    const rows = this.#rows.get(table) ?? [...this.#records(table)];
    this.#rows.set(table, rows);
    return rows;
  }

  setsOf(side: "before" | "after", table: string): PermittedSets {
    const known = side === "before" ? this.#before : this.#after;
    const sets = known.get(table) ?? new PermittedSets(table, this.rowsOf(table));
    known.set(table, sets);
    return sets;
  }
}

function differenceOf(before: Session, after: Session, compared: ComparedRecords): AccessDifference {
  const gained: Difference[] = [];
  const lost: Difference[] = [];
  for (const table of tablesThatDiffer(before, after)) {
    for (const action of actionsOf(before, after, table)) {
      for (const field of isAct(action) ? [undefined] : fieldsOf(before, after, table)) {
        const { more, less } = compareAnswers(before, after, { table, action, field }, compared);
        const line = { table, action, field, of: compared.rowsOf(table.name).length };
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
  records: AllRecords | ComparedRecords,
): SharedDifference[] {
  const compared = records instanceof ComparedRecords ? records : new ComparedRecords(records);
  const was = new Map(before.map((viewer) => [viewer.id, viewer]));
  const differences = after.flatMap(({ id, session }) => {
    const viewer = was.get(id);
    return viewer === undefined ? [] : [{ id, ...differenceOf(viewer.session, session, compared) }];
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
 * where they ask for anything, a difference anywhere counts. `changed` names the one table whose rules are not the same,
 * where that is known.
 */
export function tablesThatDiffer(before: Session, after: Session, changed?: string): Table[] {
  const [was, is] = [before, after].map((session) => insidesOf(session).ruleset.schema.tables) as [Tables, Tables];
  const tables = [...is.values(), ...[...was.values()].filter(({ name }) => !is.has(name))];
  const plans = tables.map((table) => {
    const actions = actionsOf(before, after, table);
    const one = planText(before, table, actions);
    const other = changed === undefined || changed === table.name ? planText(after, table, actions) : one;
    const looks = (text: string) => /"kind":"(?:may|exists)"/.test(text) || table.fields.some((f) => f.lookup);
    return { table, differs: one !== other, looksElsewhere: looks(one) || (other !== one && looks(other)) };
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

/** The fields of a table in either document, those that are gone behind the others. */
function fieldsOf(before: Session, after: Session, table: Table): readonly Field[] {
  const [was, is] = [before, after].map((session) => {
    return insidesOf(session).ruleset.schema.tables.get(table.name)?.fields ?? [];
  }) as [readonly Field[], readonly Field[]];
  return [...is, ...was.filter(({ name }) => !is.some((field) => field.name === name))];
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
  const asked = insidesOf(session)
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
function becomesText(session: Session, { table, action, field }: Asked): string {
  const steps = stepsOf(session, table.name, action, field?.name);
  const own = field && insidesOf(session).ruleset.schema.tables.get(table.name)?.byName.get(field.name);
  return decidingText(
    steps.filter(({ hasBecomes, bothWays }) => hasBecomes || bothWays),
    own,
  );
}

function stepsOf(session: Session, table: string, action: ActionName, field?: string): readonly StepData[] {
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
      const fields = isAct(action) ? [undefined] : fieldsOf(before, after, table);
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
  compared: ComparedRecords,
): { readonly more: readonly string[]; readonly less: readonly string[] } {
  const name = field?.name;
  const asked = { table, action, field };
  const none = { more: [], less: [] };
  if ([before, after].every((session) => reachOf(session, asked) === "none")) return none;
  if (isNew(table, action)) {
    const [was, is] = [before, after].map(
      (session) => knows(session, asked) && session.may(action, table.name, undefined, name),
    );
    return was === is ? none : was ? { more: [], less: [""] } : { more: [""], less: [] };
  }
  const [was, is] = (["before", "after"] as const).map((side) => {
    const sets = compared.setsOf(side, table.name);
    const session = side === "before" ? before : after;
    return knows(session, asked) ? sets.permitted(session, action, name) : sets.sets.none;
  }) as [RecordSet, RecordSet];
  const rows = compared.rowsOf(table.name);
  const addresses = (set: RecordSet) =>
    positionsOf(set).map((position) => recordAddress(table, rows[position] as Row) ?? "?");
  return { more: addresses(without(is, was)), less: addresses(without(was, is)) };
}

function isNew(table: Table, action: ActionName): boolean {
  return actionOf(table, action)?.judges === "new";
}

/** Fields that differ on the same records share a line, and so do actions on the same fields. */
function grouped(differences: readonly Difference[]): AccessChange[] {
  const isSensitive = ({ field }: Difference) => field?.sensitive === true;
  const byFields = groupBy(differences, (one) => [one.table.name, one.action, one.records, isSensitive(one)]);
  const namesOf = (line: readonly Difference[]) =>
    line.flatMap(({ field }) => (field === undefined ? [] : [field.name]));
  const byActions = groupBy(byFields, (line) => [line[0]?.table.name, namesOf(line), line[0]?.records]);
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
        fields: namesOf(line),
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
