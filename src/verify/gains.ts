import type { Row } from "../conditions/source.js";
import { type ActionName, actionOf } from "../rules/actions.js";
import { recordAddress } from "../schema/address.js";
import type { Table } from "../schema/schema.js";
import type { Session } from "../session/session.js";
import { type Asked, actionsOf, askedOf, groupBy, knows, reachOf, tablesThatDiffer } from "./compared-plans.js";
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

/** What somebody gains and loses. */
export interface AccessDifference {
  /** What is permitted after and was not before. */
  readonly gains: readonly AccessChange[];
  /** What was permitted before and is not after. */
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
export function diffSessions(before: Session, after: Session, records: AllRecords): AccessDifference {
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
      for (const field of askedOf(before, after, table, action)) {
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
export function diffAccess(
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
