import type { Operand, SessionOperand } from "../conditions/expression.js";
import { shiftable } from "../conditions/shift.js";
import { portierError } from "../schema/problems.js";
import { isStorable, type Scalar } from "../schema/scalar.js";
import { type Field, type FieldPath, lastOf, pathOf, type Table } from "../schema/schema.js";
import type { FieldType } from "../schema/types/field-type.js";
import { type Dialect, isTextual } from "./dialect.js";
import { allOf, anyOf, type Fragment, join, raw, sql } from "./fragment.js";
import { type JoinedPaths, leftJoin } from "./joined.js";
import type { Place } from "./place.js";
import { column, type Scope, tableAs } from "./scope.js";

/** One column or constant. */
export interface Part {
  readonly type: FieldType;
  /** In the form in which it is compared. */
  readonly sql: Fragment;
  /** The column that it comes from, or the constant. */
  readonly stored: Fragment;
  /** Whether it is not null, of what fits its type. What was moved out of the calendar is null. */
  readonly there: Fragment;
  /** The same of anything, what does not fit its type among it. */
  readonly present: Fragment;
  /** Whether it fits its type, where it is not null; undefined where it always does. */
  readonly fits: Fragment | undefined;
  readonly isConstant: boolean;
  /** Where it is a column of a record that a reference leads to: the records on the way there. */
  readonly way: Way | undefined;
}

/**
 * An operand as a statement has it: one part, or for a reference made of other fields one for each. `unreadable` and
 * `null` stand for operands that are so whatever the record.
 */
export type Value =
  | { readonly kind: "parts"; readonly parts: readonly Part[] }
  | { readonly kind: "unreadable" }
  | { readonly kind: "null" };

/** The records on the way to one, and how each follows from the one before. */
export interface Way {
  readonly tables: readonly Fragment[];
  readonly links: readonly Fragment[];
  /** Each: a reference on it holds what cannot be read, so that where it leads is open. */
  readonly broken: readonly Fragment[];
}

const start: Way = { tables: [], links: [], broken: [] };

/**
 * The records that a test reads through references: a test about them is true or false only of records that are there,
 * so it becomes an `exists` over them, which databases plan as a join.
 */
export class Joins {
  readonly #scope: Scope;
  readonly #tables: Fragment[] = [];
  readonly #links: Fragment[] = [];
  /** That the records that are read beside the statement's own are there. */
  readonly #there = new Set<Fragment>();
  /** By alias and field, the record that a reference leads to. */
  readonly #known = new Map<string, Place>();
  /** By alias, the records on the way to one. */
  readonly #ways = new Map<string, Way>();
  #depth: number;

  constructor(scope: Scope) {
    this.#scope = scope;
    this.#depth = scope.depth;
  }

  /** How many aliases are in use inside. */
  get depth(): number {
    return this.#depth;
  }

  /** A record of a table under an alias that is free. */
  place(table: Table): Place {
    this.#depth++;
    const alias = `r${this.#depth}`;
    return alias === this.#scope.taken ? this.place(table) : { table, alias };
  }

  /**
   * The test where all records that it reads are there; the test itself when it reads none. `isStrict`: it is null where
   * one of the values that it reads is.
   */
  exists(test: Fragment, isStrict = false): Fragment {
    return existsOn({ tables: this.#tables, links: this.#links }, isStrict ? test : this.#whereThere(test));
  }

  #whereThere(test: Fragment): Fragment {
    return this.#there.size === 0 ? test : allOf([...this.#there, ...(isTrivial(test) ? [] : [test])]);
  }

  /** Whether a reference on the way cannot be read: then the test is neither true nor false. Undefined where none can. */
  get broken(): Fragment | undefined {
    const broken = new Set([...this.#ways.values()].flatMap((way) => way.broken));
    return broken.size === 0 ? undefined : anyOf([...broken]);
  }

  /** A column of these records, null where they are not there. */
  select(column: Fragment): Fragment {
    if (this.#tables.length === 0) return column;
    return sql`(select ${column} from ${join(this.#tables, ", ")} where ${join(this.#links, " and ")})`;
  }

  /** Whether what these parts read is null, as it is, too, where it cannot be reached. `isWide`: also what is bad. */
  isNull(parts: readonly Part[], isWide = false): Fragment {
    const bad = isUnreadable(parts);
    if (this.#tables.length === 0 && bad === undefined) {
      return anyOf(parts.map((part) => sql`${part.sql} is null`));
    }
    const readable = isReadable(parts);
    return this.noneExists(bad === undefined || isWide ? readable : anyOf([readable, bad]), isWide);
  }

  /** Whether no such records are there of which the test is true. `isWide`: also where a way to them is broken. */
  noneExists(test: Fragment, isWide = false): Fragment {
    const none =
      this.#tables.length === 0 ? sql`(${this.#whereThere(test)}) is not true` : sql`not ${this.exists(test)}`;
    const { broken } = this;
    return broken === undefined || isWide ? none : allOf([none, sql`(${broken}) is not true`]);
  }

  value(operand: Operand): Value {
    switch (operand.kind) {
      case "constant":
        if (operand.value === null) return { kind: "null" };
        if (!isStorable(operand.value)) return { kind: "unreadable" };
        return { kind: "parts", parts: [constantPart(operand.type, operand.value, this.#scope.dialect)] };
      case "field":
        return { kind: "parts", parts: this.path(this.#scope.record, operand.path) };
      case "outer":
      case "around": {
        const place = this.#scope[operand.kind];
        return place === undefined ? { kind: "unreadable" } : { kind: "parts", parts: this.path(place, operand.path) };
      }
      case "shift": {
        return mapPart(this.value(operand.operand), (part) => shiftedPart(part, operand, this.#scope.dialect));
      }
      case "as-decimal":
        return mapPart(this.value(operand.operand), (part) => ({
          ...part,
          type: operand.type,
          sql: this.#scope.dialect.stored(operand.type, part.stored),
        }));
      case "as-address": {
        const value = this.value(operand.operand);
        if (value.kind === "parts" && value.parts.length > 1) throw unaddressed("a key of several fields");
        return mapPart(value, (part) => {
          if (isTextual(part.type)) return { ...part, type: operand.type };
          if (part.type.base !== "integer") throw unaddressed(`a key that is a ${part.type.noun}`);
          const text = this.#scope.dialect.asText(part.stored);
          return { ...part, type: operand.type, sql: text, stored: text };
        });
      }
      case "me":
      case "request":
      case "today":
        return this.#asked(operand);
      // Which records a role is held on is asked by itself: see keys.ts.
      case "held":
      case "unreadable":
        return { kind: "unreadable" };
      default:
        return operand satisfies never;
    }
  }

  /** What only a session knows: not known of a holder of roles, and found out by a statement that is for anybody. */
  #asked(operand: Exclude<SessionOperand, { readonly kind: "held" }>): Value {
    const { subject, dialect } = this.#scope;
    if (subject === undefined) return { kind: "unreadable" };
    const part = (one: typeof operand): Part => ({ ...partOf(one.type, subject.value(one), dialect), way: undefined });
    const made = operand.kind === "me" ? lastOf(operand.path).by : undefined;
    if (operand.kind !== "me" || made === undefined) return { kind: "parts", parts: [part(operand)] };
    const before = operand.path.slice(0, -1);
    const parts = made.map((field) => part({ ...operand, type: field.type, path: pathOf([...before, field]) }));
    return { kind: "parts", parts };
  }

  /** The record that a path's last reference leads to, whose other fields a test may then read. */
  follow(start: Place, path: readonly Field[]): Place {
    return path.reduce((place: Place, field) => this.#step(place, field), start);
  }

  /** The record of a table that has this key. */
  find(table: Table, key: readonly Part[]): Place {
    const place = this.place(table);
    this.#reach(place, key, start);
    return place;
  }

  path(start: Place, path: FieldPath): readonly Part[] {
    const place = path.slice(0, -1).reduce((from: Place, field) => this.#step(from, field), start);
    const last = lastOf(path);
    return (last.by ?? [last]).map((field) => this.#column(place, field));
  }

  #step(from: Place, reference: Field): Place {
    const id = `${from.alias} ${reference.name}`;
    const known = this.#known.get(id);
    if (known !== undefined) return known;
    const { table } = this.#scope.residual.plan.of(reference.type.target ?? "");
    const parts = (reference.by ?? [reference]).map((field) => this.#column(from, field));
    const before = this.#ways.get(from.alias) ?? start;
    const bad = isUnreadable(parts);
    const way = bad === undefined ? before : { ...before, broken: [...before.broken, existsOn(before, bad)] };
    const beside = this.#scope.joined?.has(from) ? this.#scope.joined : undefined;
    const place = beside === undefined ? this.place(table) : this.#beside(beside, from, reference, table, parts);
    if (beside === undefined) this.#reach(place, parts, way);
    else this.#ways.set(place.alias, way);
    this.#known.set(id, place);
    return place;
  }

  /** A record beside the statement's own. */
  #beside(joined: JoinedPaths, from: Place, reference: Field, table: Table, parts: readonly Part[]): Place {
    const { place, isThere } = joined.step(from, reference, (alias) => {
      const made: Place = { table, alias };
      const key = table.key[0] as Field;
      return {
        place: made,
        isThere: sql`${column(this.#scope, made, key)} is not null`,
        join: leftJoin(tableAs(this.#scope, made), this.#linksTo(made, parts)),
      };
    });
    this.#there.add(isThere);
    return place;
  }

  /** Joins a record by its key. */
  #reach(place: Place, key: readonly Part[], way: Way): void {
    const links = this.#linksTo(place, key);
    const source = tableAs(this.#scope, place);
    this.#tables.push(source);
    this.#links.push(...links);
    this.#ways.set(place.alias, { ...way, tables: [...way.tables, source], links: [...way.links, ...links] });
  }

  #linksTo({ table, alias }: Place, key: readonly Part[]): Fragment[] {
    const { dialect } = this.#scope;
    return table.key.map((field, index) =>
      dialect.compare("=", field.type, this.#column({ table, alias }, field).sql, (key[index] as Part).sql),
    );
  }

  #column(place: Place, field: Field): Part {
    const stored = column(this.#scope, place, field);
    return { ...partOf(field.type, stored, this.#scope.dialect), way: this.#ways.get(place.alias) };
  }
}

/** Assignments name records by the text of their address, which a database can put together of few keys. */
function unaddressed(key: string) {
  return portierError("wrong-call", {
    what: `SQL cannot ask for roles that are assigned on records with ${key}`,
    hint: "give the table a key of one field, a text or an integer; or give such roles in a link table",
  });
}

function isTrivial(test: Fragment): boolean {
  return test.length === 1 && test[0] === "true";
}

/** Whether the records on a way are there, and the test of them is true. */
export function existsOn({ tables, links }: Pick<Way, "tables" | "links">, test: Fragment): Fragment {
  if (tables.length === 0) return test;
  const demands = join(isTrivial(test) ? links : [...links, test], " and ");
  return sql`exists (select 1 from ${join(tables, ", ")} where ${demands})`;
}

function partOf(type: FieldType, stored: Fragment, dialect: Dialect): Omit<Part, "way"> {
  const value = dialect.stored(type, stored);
  const fits = dialect.fits(type, stored);
  // A json value can be JSON's own null, which is null here: so what is null is asked of the value.
  const asked = type.base === "json" ? value : stored;
  const there = sql`${asked} is not null`;
  return { type, sql: value, stored: asked, there, present: there, fits, isConstant: false };
}

/** What would leave the calendar is not worked out at all: databases fail there, and a failure tells of the record. */
function shiftedPart(part: Part, { type, amount, unit }: Extract<Operand, { kind: "shift" }>, dialect: Dialect): Part {
  const bounds = shiftable(type, amount, unit);
  const moved = dialect.shift(type, part.stored, amount, unit);
  const stays =
    bounds === undefined
      ? raw("false")
      : allOf([
          dialect.compare(">=", type, part.sql, dialect.constant(type, bounds.from)),
          dialect.compare("<=", type, part.sql, dialect.constant(type, bounds.to)),
        ]);
  const value = sql`case when ${stays} then ${moved} end`;
  const there = sql`${value} is not null`;
  return { ...part, sql: value, there, present: anyOf([there, isUnreadable([part]) ?? raw("false")]) };
}

export function constantPart(type: FieldType, value: Scalar, dialect: Dialect): Part {
  const constant = dialect.constant(type, value);
  const there = sql`${constant} is not null`;
  return {
    type,
    sql: constant,
    stored: constant,
    there,
    present: there,
    fits: undefined,
    isConstant: true,
    way: undefined,
  };
}

function mapPart(value: Value, change: (part: Part) => Part): Value {
  return value.kind === "parts" ? { kind: "parts", parts: value.parts.map(change) } : value;
}

/** Every part is there and fits. */
export function isReadable(parts: readonly Part[]): Fragment {
  return allOf(parts.flatMap((part) => (part.isConstant ? [] : [part.there, ...fitsOf(part)])));
}

/** Some part is there and does not fit; undefined where none can be. */
export function isUnreadable(parts: readonly Part[]): Fragment | undefined {
  const terms = parts.flatMap((part) => fitsOf(part).map((fits) => sql`(${part.stored} is not null and not ${fits})`));
  return terms.length === 0 ? undefined : anyOf(terms);
}

export function fitsOf({ fits }: Part): readonly Fragment[] {
  return fits === undefined ? [] : [fits];
}
