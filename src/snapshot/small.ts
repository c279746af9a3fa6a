import type { Row } from "../conditions/source.js";
import { Bad, False, not, True, type Truth, Unknown } from "../conditions/truth.js";
import { type ActionTree, actionTree, type ShowAction } from "../rules/action-tree.js";
import { countingFor } from "../rules/actions.js";
import { compareText } from "../schema/scalar.js";
import { isOwn as isOwnField, type Table } from "../schema/schema.js";
import { isCalendarDay } from "../schema/types/date.js";
import { canonicalDecimal } from "../schema/types/decimal.js";
import { json } from "../schema/types/json.js";
import { canonicalTimestamp } from "../schema/types/timestamp.js";
import { ownValue, problemOf, type Snapshot } from "../session/snapshot.js";

// What openSnapshot does, once more, for conditions on a record's own fields alone and in a tenth of the code. It knows fewer
// forms of a value, so what it permits may be less than what openSnapshot permits, and never more; tests hold it to that.

/** What a page asks of a snapshot whose rules read nothing but the record's own fields. */
export interface SmallSession {
  readonly roles: readonly string[];
  /** As `session.may` answers. */
  may(action: string, table: string, record: object, field?: string): boolean;
  /** As `session.mask` shows it, without lookups and references made of several fields; undefined where it is not seen. */
  mask(table: string, record: object, action?: ShowAction): Record<string, unknown> | undefined;
}

type Json = Readonly<Record<string, unknown>>;
type Encoded = { readonly $type: { readonly name?: string } };
type Test = (row: Row) => Truth;
/** A value; null for null, undefined for what cannot be read. */
type Read = (row: Row) => unknown;

interface SmallTable extends Pick<Table, "name" | "actions"> {
  readonly fields: readonly SmallField[];
  readonly key: readonly SmallField[];
  /** By action and field, or the record as a whole. */
  readonly answers: Map<string, Test>;
}

interface SmallField {
  readonly name: string;
  readonly lookup: unknown;
  readonly by: unknown;
  readonly fits: (value: unknown) => boolean;
  /** Whether its values are compared by what stands in them. */
  readonly isPlain: boolean;
}

/**
 * Opens a snapshot for questions about some tables. A few kilobytes, where {@link openSnapshot} is some twenty.
 *
 * @throws Error where rules of these tables ask for more than the record's own fields: through references, of other records,
 * for patterns, shifted days, decimals, instants, cells, lookups or references made of several fields. Then use
 * {@link openSnapshot}. Also for what is not a snapshot, one that is damaged, or past its end.
 *
 * @example
 * const session = openSmall(await response.json(), ["objects"]);
 * input.disabled = !session.may("edit", "objects", object, "label");
 */
export function openSmall(snapshot: Snapshot, tables: readonly string[]): SmallSession {
  const problem = problemOf(snapshot, undefined);
  if (problem !== undefined) throw new Error(problem);
  const encoded = snapshot.tables as unknown as readonly EncodedTable[];
  const known = new Map(encoded.map((one) => [one.name, smallTable(one)]));
  const tableOf = (name: string): SmallTable => {
    const found = tables.includes(name) ? known.get(name) : undefined;
    if (found === undefined) throw new Error(`table "${name}" is not open`);
    return found;
  };
  const testOf = (table: SmallTable, action: string, field?: SmallField): Test => {
    if (field !== undefined && !isOwn(field)) more(`"${field.name}"`);
    const id = JSON.stringify([action, field?.name]);
    const made =
      table.answers.get(id) ?? interpret(snapshot, table, actionTree(table as never, action, field as never));
    table.answers.set(id, made);
    return made;
  };
  for (const name of tables) {
    const table = tableOf(name);
    // All of it is made ready now: what it cannot answer is said here, and not when it is asked.
    for (const action of [...Object.keys(ownValue(snapshot.steps, name) ?? {}), "view"]) {
      for (const field of [undefined, ...table.fields.filter(isOwn)]) testOf(table, action, field);
    }
  }
  const fieldOf = (table: SmallTable, name: string): SmallField => {
    const found = table.fields.find((one) => one.name === name);
    if (found === undefined) throw new Error(`table "${table.name}" has no field "${name}"`);
    return found;
  };
  return {
    roles: snapshot.roles,
    may: (action, name, record, field) => {
      const table = tableOf(name);
      return testOf(table, action, field === undefined ? undefined : fieldOf(table, field))(record as Row) === True;
    },
    mask: (name, given, action = "view") => {
      const table = tableOf(name);
      const record = given as Row;
      const isSeen = (field?: SmallField) => testOf(table, action, field)(record) === True;
      if (!isSeen()) return undefined;
      const shown = table.fields.filter(isOwn).filter((field) => {
        const value = raw(record, field.name);
        return value !== undefined && isSeen(field) && (value === null || field.fits(value));
      });
      return Object.fromEntries(shown.map(({ name: field }) => [field, record[field]]));
    },
  };
}

interface EncodedTable {
  readonly name: string;
  readonly fields: readonly Json[];
  readonly key: readonly string[];
  readonly actions: readonly string[];
}

function smallTable({ name, fields, key, actions }: EncodedTable): SmallTable {
  const own = fields.map(({ name: field, by, lookup, type }): SmallField => {
    return { name: field as string, by, lookup, fits: fitsOf((type as Encoded).$type), isPlain: isPlain(type) };
  });
  return { name, actions, fields: own, key: own.filter((field) => key.includes(field.name)), answers: new Map() };
}

function isOwn(field: SmallField): boolean {
  return isOwnField(field as never);
}

function more(what: string): never {
  throw new Error(`${what} needs openSnapshot`);
}

function fitsOf(type: unknown): (value: unknown) => boolean {
  const { name, of, choices } = (typeof type === "string" ? { name: type } : type) as {
    name: string;
    of?: unknown;
    choices?: readonly unknown[];
  };
  switch (name) {
    case "integer":
      return Number.isSafeInteger;
    case "boolean":
      return (value) => typeof value === "boolean";
    case "choice":
      return (value) => choices?.includes(value) === true;
    case "date":
      return (value) => {
        const [, year, month, day] = (typeof value === "string" && /^(\d{4})-(\d\d)-(\d\d)$/.exec(value)) || [];
        return isCalendarDay(Number(year), Number(month), Number(day));
      };
    case "reference":
      return fitsOf(of);
    case "list": {
      const fits = fitsOf(of);
      return (value) => Array.isArray(value) && value.every(fits);
    }
    case "json":
      return json.fits;
    case "decimal":
      return (value) => canonicalDecimal(value) !== undefined;
    case "timestamp":
      return (value) => canonicalTimestamp(value) !== undefined;
    default:
      return (value) => typeof value === "string";
  }
}

/** True, or anything else. */
function interpret(snapshot: Snapshot, table: SmallTable, tree: ActionTree): Test {
  const inner = (one: ActionTree) => interpret(snapshot, table, one);
  switch (tree.kind) {
    case "all":
      return all(tree.parts.map(inner));
    case "any":
      return any(tree.ways.map((way) => inner(way.tree)));
    case "known":
      return all([inner(tree.next), inner(tree.known)]);
    case "made":
      return all([inner(tree.act), inner(tree.next)]);
    case "gate":
      return gate(snapshot, table, tree);
    default:
      return more("a lookup");
  }
}

interface SmallStep {
  readonly effect: string;
  readonly hasBecomes: boolean;
  readonly extent: {
    readonly act: boolean;
    readonly cells?: unknown;
    readonly fields: { readonly $set: readonly { $field: readonly [string, string] }[] };
  };
  readonly who: Json;
  readonly where: Json;
}

function gate(
  snapshot: Snapshot,
  { name, fields }: SmallTable,
  { action, on, isTried }: Extract<ActionTree, { kind: "gate" }>,
): Test {
  const sent = ownValue(snapshot.steps, name) ?? {};
  const steps = countingFor(action).flatMap((one) => ownValue(sent, one) ?? []) as SmallStep[];
  const field = on === "act" ? undefined : on.name;
  if (steps.some(({ extent }) => extent.cells !== undefined)) more("a range of cells");
  const covering = steps.filter(({ extent }) =>
    field === undefined ? extent.act : extent.fields.$set.some(({ $field }) => $field[1] === field),
  );
  const values = snapshot.values as readonly unknown[];
  const own = new Map(fields.map((one) => [one.name, one]));
  const test = ({ who, where }: SmallStep) => all([who, where].map((one) => compile(one, { fields: own, values })));
  const blocks = covering.filter(({ effect, hasBecomes }) => /deny|reserve/.test(effect) && !(isTried && hasBecomes));
  const stops = blocks.map(test);
  const permits = any(covering.filter(({ effect }) => effect === "permit").map(test));
  return (row) => (stops.every((stop) => stop(row) === False) ? permits(row) : False);
}

interface Sent {
  readonly fields: ReadonlyMap<string, SmallField>;
  readonly values: readonly unknown[];
}

function compile(condition: Json, sent: Sent): Test {
  const operand = (name: string) => reader(condition[name] as Json, sent);
  const terms = () => (condition["terms"] as readonly Json[]).map((term) => compile(term, sent));
  switch (condition["kind"]) {
    case "truth":
      return () => condition["value"] as Truth;
    case "open":
      return () => Unknown;
    case "and":
      return all(terms());
    case "or":
      return any(terms());
    case "not": {
      const term = compile(condition["term"] as Json, sent);
      return (row) => not(term(row));
    }
    case "is-null": {
      const read = operand("operand");
      return (row) => truthOf(read(row), (value) => value === null, True);
    }
    case "compare":
      return compare(condition, operand("left"), operand("right"));
    case "in": {
      const read = operand("operand");
      return any((condition["items"] as readonly Json[]).map((item) => compare({ op: "=" }, read, reader(item, sent))));
    }
    case "in-list": {
      const [read, list] = [operand("operand"), operand("list")];
      return (row) => {
        const [value, among] = [read(row), list(row)];
        if (value === null || among === null) return Unknown;
        return value === undefined ? Bad : truthOf(among, () => elements(among).includes(value), Unknown);
      };
    }
    case "belongs": {
      const [read, subject] = [reader({ kind: "field", path: condition["path"] }, sent), operand("subject")];
      return (row) => {
        const [value, own] = [read(row), subject(row)];
        if (own === null) return False;
        const found = () => elements(value).some((one) => elements(own).includes(one));
        return own === undefined && value !== null ? Bad : truthOf(value, found, False);
      };
    }
    default:
      return more(`"${condition["kind"]}"`);
  }
}

/** Lists stand as JSON where they come along. */
function elements(value: unknown): readonly unknown[] {
  return Array.isArray(value) ? value : [value];
}

function truthOf(value: unknown, test: (value: unknown) => boolean, onNull: Truth): Truth {
  if (value === null) return onNull;
  return value === undefined ? Bad : test(value) ? True : False;
}

function compare({ op }: Json, left: Read, right: Read): Test {
  return (row) => {
    const [a, b] = [left(row), right(row)];
    if (a === null || b === null) return Unknown;
    if (a === undefined || b === undefined) return Bad;
    if (op === "=" || op === "<>") return (a === b) === (op === "=") ? True : False;
    const order = typeof a === "string" ? compareText(a, b as string) : Number(a) - Number(b);
    return (op === "<" ? order < 0 : op === "<=" ? order <= 0 : op === ">" ? order > 0 : order >= 0) ? True : False;
  };
}

function reader(operand: Json, { fields, values }: Sent): Read {
  const { type } = operand;
  if (!isPlain(type)) more("a decimal, an instant or json");
  switch (operand["kind"]) {
    case "constant":
      return constant(operand["value"], type);
    case "request":
      return constant(values[operand["slot"] as number] ?? undefined, type);
    case "unreadable":
      return () => undefined;
    case "field": {
      const path = operand["path"] as readonly { readonly $field: readonly [string, string] }[];
      const field = fields.get(path[0]?.$field[1] ?? "");
      if (path.length > 1 || field === undefined || !field.isPlain || !isOwn(field))
        return more("what a field leads to");
      return (row) => {
        const value = raw(row, field.name);
        return value === null ? null : value !== undefined && field.fits(value) ? value : undefined;
      };
    }
    default:
      return more(`"${operand["kind"]}"`);
  }
}

/** Not of decimals, instants and json, which have several spellings of one value. */
function isPlain(type: unknown): boolean {
  return !/"(decimal|timestamp|json)"/.test(JSON.stringify(type ?? ""));
}

function constant(value: unknown, type: unknown): Read {
  const isList = (type as Encoded | undefined)?.$type?.name === "list";
  const known = isList && typeof value === "string" ? JSON.parse(value) : value;
  return () => known;
}

function raw(row: Row, name: string): unknown {
  return Object.hasOwn(row, name) ? row[name] : undefined;
}

function all(tests: readonly Test[]): Test {
  return (row) =>
    tests.reduce((least: Truth, test) => (least === False ? False : (Math.min(least, test(row)) as Truth)), True);
}

function any(tests: readonly Test[]): Test {
  return (row) =>
    tests.reduce((most: Truth, test) => (most === True ? True : (Math.max(most, test(row)) as Truth)), False);
}
