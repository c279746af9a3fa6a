import type { Row } from "../conditions/source.js";
import { type ActionName, actionNamesOf, actionOf } from "../rules/actions.js";
import { recordAddress } from "../schema/address.js";
import type { Field, Table } from "../schema/schema.js";
import { insidesOf } from "../session/portier.js";
import { residualSteps } from "../session/residual.js";
import type { Session } from "../session/session.js";
import { encode } from "../session/snapshot.js";
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
    for (const action of actionNamesOf(table)) {
      for (const field of actionOf(table, action)?.speaksOf === "record" ? [undefined] : table.fields) {
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
  const tables = [...insidesOf(after).ruleset.schema.tables.values()].filter(({ name }) =>
    insidesOf(before).ruleset.schema.tables.has(name),
  );
  const plans = tables.map((table) => {
    const [one, other] = [planText(before, table), planText(after, table)];
    const looksElsewhere = (text: string) => /"kind":"(?:may|exists)"/.test(text) || table.fields.some((f) => f.lookup);
    return { table, differs: one !== other, looksElsewhere: looksElsewhere(one) || looksElsewhere(other) };
  });
  const isAnywhere = plans.some(({ differs }) => differs);
  return plans.filter((one) => one.differs || (isAnywhere && one.looksElsewhere)).map(({ table }) => table);
}

function planText(session: Session, table: Table): string {
  return JSON.stringify(actionNamesOf(table).map((action) => residualText(session, table.name, action)));
}

/** What is left of the rules for an action, or for one field of it, as a text: equal texts decide the same. */
export function residualText(session: Session, table: string, action: ActionName, field?: string): string {
  const { ruleset, subject } = insidesOf(session);
  const own = ruleset.schema.tables.get(table);
  if (own === undefined) return "";
  const steps = residualSteps(ruleset, subject)(own, action);
  const asked = field === undefined ? undefined : own.byName.get(field);
  return JSON.stringify(steps.filter((step) => asked === undefined || step.extent.fields.has(asked)).map(encode));
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
  const isOpen = [before, after].some((session) => session.reach(action, table.name, name) !== "none");
  const more: string[] = [];
  const less: string[] = [];
  if (!isOpen) return { more, less };
  const compare = (row: Row | undefined, address: string) => {
    const was = before.may(action, table.name, row, name);
    if (was !== after.may(action, table.name, row, name)) (was ? less : more).push(address);
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
