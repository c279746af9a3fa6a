import type { Operand, SessionOperand } from "../conditions/expression.js";
import type { Scalar } from "../schema/scalar.js";
import { type Field, type FieldPath, lastOf, pathOf, type Table } from "../schema/schema.js";
import type { FieldType } from "../schema/types/field-type.js";
import type { Dialect } from "./dialect.js";
import { allOf, anyOf, type Fragment, join, sql } from "./fragment.js";
import { column, type Place, type Scope, tableAs } from "./scope.js";

/** One column or constant. */
export interface Part {
  readonly type: FieldType;
  /** In the form in which it is compared. */
  readonly sql: Fragment;
  /** The column that it comes from, or the constant. */
  readonly stored: Fragment;
  /** Whether it fits its type, where it is not null; undefined where it always does. */
  readonly fits: Fragment | undefined;
  readonly isConstant: boolean;
  /** Whether it is a column of a record that a reference leads to. */
  readonly isReached: boolean;
}

/**
 * An operand as a statement has it: one part, or for a reference made by other fields one for each. `unreadable` and
 * `null` stand for operands that are so whatever the record.
 */
export type Value =
  | { readonly kind: "parts"; readonly parts: readonly Part[] }
  | { readonly kind: "unreadable" }
  | { readonly kind: "null" };

/** The records on the way to one, and how each follows from the one before. */
interface Way {
  readonly tables: readonly Fragment[];
  readonly links: readonly Fragment[];
}

/**
 * The records that a test reads through references: a test about them is true or false only of records that are there,
 * so it becomes an `exists` over them, which databases plan as a join.
 */
export class Joins {
  readonly #scope: Scope;
  readonly #tables: Fragment[] = [];
  readonly #links: Fragment[] = [];
  /** By alias and field, the record that a reference leads to. */
  readonly #known = new Map<string, Place>();
  /** By alias, the records on the way to one. */
  readonly #ways = new Map<string, Way>();
  /** Each: a reference on a way holds what cannot be read, so that where it leads is open. */
  readonly #broken: Fragment[] = [];
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

  /** The test where all records that it reads are there; the test itself when it reads none. */
  exists(test: Fragment): Fragment {
    if (this.#tables.length === 0) return test;
    const isTrivial = test.length === 1 && test[0] === "true";
    const demands = join([...this.#links, ...(isTrivial ? [] : [test])], " and ");
    return sql`exists (select 1 from ${join(this.#tables, ", ")} where ${demands})`;
  }

  /** Whether a reference on the way cannot be read: then the test is neither true nor false. Undefined where none can. */
  get broken(): Fragment | undefined {
    return this.#broken.length === 0 ? undefined : anyOf(this.#broken);
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
      return anyOf(parts.map(({ stored }) => sql`${stored} is null`));
    }
    const readable = isReadable(parts);
    return this.noneExists(bad === undefined || isWide ? readable : anyOf([readable, bad]), isWide);
  }

  /** Whether no such records are there of which the test is true. `isWide`: also where a way to them is broken. */
  noneExists(test: Fragment, isWide = false): Fragment {
    const none = this.#tables.length === 0 ? sql`(${test}) is not true` : sql`not ${this.exists(test)}`;
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
      case "outer": {
        const { outer } = this.#scope;
        return outer === undefined ? { kind: "unreadable" } : { kind: "parts", parts: this.path(outer, operand.path) };
      }
      case "shift": {
        const { type, amount, unit } = operand;
        const value = this.value(operand.operand);
        return mapPart(value, (part) => {
          const { dialect } = this.#scope;
          const moved = dialect.shift(type, part.stored, amount, unit);
          return { ...part, sql: moved, fits: allOf([...fitsOf(part), sql`${moved} is not null`]) };
        });
      }
      case "as-decimal":
        return mapPart(this.value(operand.operand), (part) => ({
          ...part,
          type: operand.type,
          sql: this.#scope.dialect.stored(operand.type, part.stored),
        }));
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
    const { asker, dialect } = this.#scope;
    if (asker === undefined) return { kind: "unreadable" };
    const part = (one: typeof operand): Part => ({ ...partOf(one.type, asker.value(one), dialect), isReached: false });
    const made = operand.kind === "me" ? lastOf(operand.path).by : undefined;
    if (operand.kind !== "me" || made === undefined) return { kind: "parts", parts: [part(operand)] };
    const before = operand.path.slice(0, -1);
    const parts = made.map((field) => part({ ...operand, type: field.type, path: pathOf([...before, field]) }));
    return { kind: "parts", parts };
  }

  /** The record that a path's last reference leads to, whose other fields a test may then read. */
  follow(start: Place, path: FieldPath): Place {
    return path.reduce((place: Place, field) => this.#step(place, field), start);
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
    const { dialect, plan } = this.#scope;
    const { table } = plan.of(reference.type.target ?? "");
    const place = this.place(table);
    const parts = (reference.by ?? [reference]).map((field) => this.#column(from, field));
    const way = this.#ways.get(from.alias) ?? { tables: [], links: [] };
    const bad = isUnreadable(parts);
    if (bad !== undefined) {
      const { tables, links } = way;
      const demands = join([...links, bad], " and ");
      this.#broken.push(tables.length === 0 ? bad : sql`exists (select 1 from ${join(tables, ", ")} where ${demands})`);
    }
    const links = table.key.map((key, index) =>
      dialect.compare("=", key.type, this.#column(place, key).sql, (parts[index] as Part).sql),
    );
    const source = tableAs(this.#scope, place);
    this.#tables.push(source);
    this.#links.push(...links);
    this.#ways.set(place.alias, { tables: [...way.tables, source], links: [...way.links, ...links] });
    this.#known.set(id, place);
    return place;
  }

  #column(place: Place, field: Field): Part {
    const stored = column(this.#scope, place, field);
    return { ...partOf(field.type, stored, this.#scope.dialect), isReached: this.#ways.has(place.alias) };
  }
}

function partOf(type: FieldType, stored: Fragment, dialect: Dialect): Omit<Part, "isReached"> {
  const value = dialect.stored(type, stored);
  const fits = dialect.fits(type, stored);
  // A json value can be JSON's own null, which is null here: so what is null is asked of the value.
  return { type, sql: value, stored: type.base === "json" ? value : stored, fits, isConstant: false };
}

export function constantPart(type: FieldType, value: Scalar, dialect: Dialect): Part {
  const constant = dialect.constant(type, value);
  return { type, sql: constant, stored: constant, fits: undefined, isConstant: true, isReached: false };
}

/** What no database can hold or send as it is: the nul character, and halves of surrogate pairs. */
export function isStorable(value: Scalar): boolean {
  return typeof value !== "string" || (!value.includes("\0") && !/\p{Surrogate}/u.test(value));
}

function mapPart(value: Value, change: (part: Part) => Part): Value {
  return value.kind === "parts" ? { kind: "parts", parts: value.parts.map(change) } : value;
}

/** Every part is there and fits. */
export function isReadable(parts: readonly Part[]): Fragment {
  return allOf(parts.flatMap((part) => (part.isConstant ? [] : [sql`${part.stored} is not null`, ...fitsOf(part)])));
}

/** Some part is there and does not fit; undefined where none can be. */
export function isUnreadable(parts: readonly Part[]): Fragment | undefined {
  const terms = parts.flatMap((part) => fitsOf(part).map((fits) => sql`(${part.stored} is not null and not ${fits})`));
  return terms.length === 0 ? undefined : anyOf(terms);
}

export function fitsOf({ fits }: Part): readonly Fragment[] {
  return fits === undefined ? [] : [fits];
}
