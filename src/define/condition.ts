import { printName } from "../conditions/printer.js";
import { portierError } from "../schema/problems.js";
import { choice } from "../schema/types/choice.js";
import type { FieldType } from "../schema/types/field-type.js";
import { isScalarTypeName, scalarTypes } from "../schema/types/scalars.js";
import type {
  CustomAction,
  Declaration,
  FieldName,
  GroupName,
  KeyValue,
  RoleName,
  StoredValue,
  TableName,
  TargetOf,
} from "./types.js";

/** A condition that was put together; `text` is what it says in a document. */
export class TypedCondition {
  /** As a YAML document has it. */
  readonly text: string;
  readonly #isLoose: boolean;

  constructor(text: string, isLoose = false) {
    this.text = text;
    this.#isLoose = isLoose;
  }

  /** Both hold. Where one is unknown, unknown, unless the other is false. */
  and(other: TypedCondition): TypedCondition {
    return new TypedCondition(`${this.#tight()} and ${other.#tight()}`, true);
  }

  /** One of them holds. Where one is unknown, unknown, unless the other is true. */
  or(other: TypedCondition): TypedCondition {
    return new TypedCondition(`${this.#tight()} or ${other.#tight()}`, true);
  }

  /** In parentheses where it is more than one test. */
  #tight(): string {
    return this.#isLoose ? `(${this.text})` : this.text;
  }

  static not(condition: TypedCondition): TypedCondition {
    return new TypedCondition(`not ${condition.#isLoose ? `(${condition.text})` : condition.text}`);
  }
}

/** The opposite; unknown stays unknown. */
export function not(condition: TypedCondition): TypedCondition {
  return TypedCondition.not(condition);
}

declare const comparable: unique symbol;

/** With what an operand can be compared: choices are texts, integers and decimals are numbers. */
export type Comparable = "text" | "number" | "boolean" | "date" | "timestamp";

/** An operand of any values that can be compared with those of the same kind. */
interface Compared<C extends Comparable> {
  readonly [comparable]?: C;
}

/** Something that a condition compares: a field of the record, of the person, of the request. */
export interface Operand<V, C extends Comparable = Comparable> extends Compared<C> {
  /** Equal. Comparing with null is an error here: ask {@link isNull}. */
  is(value: V | Compared<C>): TypedCondition;
  /** Different. Unknown where either is null. */
  isNot(value: V | Compared<C>): TypedCondition;
  isOneOf(values: readonly (V | Compared<C>)[]): TypedCondition;
  /** No value: never unknown. */
  isNull(): TypedCondition;
  isNotNull(): TypedCondition;
}

/** Numbers, texts, dates and timestamps have an order. */
export interface OrderedOperand<V, C extends Comparable = Comparable> extends Operand<V, C> {
  isBelow(value: V | Compared<C>): TypedCondition;
  isAtMost(value: V | Compared<C>): TypedCondition;
  isAbove(value: V | Compared<C>): TypedCondition;
  isAtLeast(value: V | Compared<C>): TypedCondition;
}

/** A text also has patterns. */
export interface TextOperand<V> extends OrderedOperand<V, "text"> {
  /** `%` is any run of characters, `_` any one. */
  isLike(pattern: string): TypedCondition;
  startsWith(text: string): TypedCondition;
  endsWith(text: string): TypedCondition;
  contains(text: string): TypedCondition;
}

/** A list holds values that are compared one by one. */
export interface ListOperand<V, C extends Comparable = Comparable> {
  /** The same values in the same order as in another list. */
  is(list: ListOperand<V, C>): TypedCondition;
  isNot(list: ListOperand<V, C>): TypedCondition;
  includes(value: V | Compared<C>): TypedCondition;
  isNull(): TypedCondition;
  isNotNull(): TypedCondition;
}

/** A day as a rule writes it: `2027-01-31`. */
type Day = `${number}-${number}-${number}`;
/** An instant as a rule writes it: `2027-01-31T09:00:00Z`. */
type Instant = `${Day}T${string}`;

interface ScalarOperands {
  text: TextOperand<string>;
  integer: OrderedOperand<number, "number">;
  decimal: OrderedOperand<string | number, "number">;
  boolean: Operand<boolean, "boolean">;
  date: OrderedOperand<Day, "date">;
  timestamp: OrderedOperand<Instant, "timestamp">;
  json: Pick<Operand<never>, "isNull" | "isNotNull">;
}
type NamedOperand<N> = N extends keyof ScalarOperands ? ScalarOperands[N] : never;

/** What a declared field, or the element of a list, is compared with. */
type ComparableOf<D extends Declaration, S> = S extends "integer" | "decimal"
  ? "number"
  : S extends "boolean" | "date" | "timestamp"
    ? S
    : S extends { readonly reference: infer R }
      ? KeyComparable<D, R>
      : S extends { readonly type: infer N }
        ? ComparableOf<D, N>
        : "text";

/** A key of several fields is compared as its address, a text. */
type KeyComparable<D extends Declaration, T> =
  T extends TableName<D>
    ? D["tables"][T]["key"] extends infer K extends FieldName<D, T>
      ? ComparableOf<D, D["tables"][T]["fields"][K]>
      : D["tables"][T]["key"] extends readonly [infer K extends FieldName<D, T>]
        ? ComparableOf<D, D["tables"][T]["fields"][K]>
        : "text"
    : never;

type OperandOf<
  D extends Declaration,
  T extends TableName<D>,
  F extends FieldName<D, T>,
> = D["tables"][T]["fields"][F] extends infer S
  ? S extends string
    ? NamedOperand<S>
    : S extends { readonly list: infer L }
      ? StoredValue<D, T, F> extends readonly (infer E)[]
        ? ListOperand<E, ComparableOf<D, L>>
        : never
      : S extends { readonly lookup: { readonly through: infer H; readonly field: infer G } }
        ? LookupOperand<D, TargetOf<D, T, H>, G>
        : S extends { readonly choice: unknown } | { readonly reference: unknown }
          ? Operand<StoredValue<D, T, F>, ComparableOf<D, S>>
          : S extends { readonly type: infer N }
            ? NamedOperand<N>
            : never
  : never;

type LookupOperand<D extends Declaration, T, G> =
  T extends TableName<D> ? (G extends FieldName<D, T> ? OperandOf<D, T, G> : never) : never;

/** A record in a condition: its fields, and through references those of other records. */
export type RecordScope<D extends Declaration, T extends TableName<D>> = {
  readonly [F in FieldName<D, T>]: [TargetOf<D, T, F>] extends [never]
    ? OperandOf<D, T, F>
    : OperandOf<D, T, F> & RecordScope<D, TargetOf<D, T, F>>;
} & {};

/** What a condition is made of. */
export type ConditionScope<D extends Declaration, T extends TableName<D>> = {
  readonly [K in keyof Scope<D, T>]: Scope<D, T>[K];
} & {};

interface Scope<D extends Declaration, T extends TableName<D>> {
  /** The record in question. */
  readonly record: RecordScope<D, T>;
  /** The current user; `me` itself is their key. */
  readonly me: PersonScope<D>;
  readonly request: { readonly [R in keyof D["request"] & string]: NamedOperand<NonNullable<D["request"]>[R]> } & {
    readonly now: ScalarOperands["timestamp"];
  };
  /** The day of the session. */
  readonly today: ScalarOperands["date"];
  /** May this person do it with the record that the reference leads to? */
  may(
    action: "list" | "view" | "edit" | "delete" | "export" | "bulk" | CustomAction<D, TableName<D>>,
    reference: object,
  ): TypedCondition;
  /**
   * Does the person that the reference leads to hold the role, or are they in the group? Of a scoped role `on` is the
   * reference to the record on which they hold it.
   *
   * @example
   * where: ({ record, isMember }) => isMember(record.keeper, "textiles").or(isMember(record.keeper, "lead", record.exhibition))
   */
  isMember(reference: object, member: RoleName<D> | GroupName<D>, on?: object): TypedCondition;
}

type PersonScope<D extends Declaration> = D["people"] extends { readonly table: infer P extends TableName<D> }
  ? Operand<KeyValue<D, P>, KeyComparable<D, P>> & RecordScope<D, P>
  : never;

const path = Symbol("path");

/** Writes a value, or another operand, as a condition has it. */
type Say = (value: unknown) => string;

/** By name, the condition about an operand. A text is matched with a text, whatever the type of the field. */
const operators: Readonly<Record<string, (self: string, say: Say, value: unknown) => string>> = {
  is: (self, say, value) => `${self} = ${say(value)}`,
  isNot: (self, say, value) => `${self} <> ${say(value)}`,
  isOneOf: (self, say, values) => `${self} in (${listOf(values).map(say).join(", ")})`,
  isNull: (self) => `${self} is null`,
  isNotNull: (self) => `${self} is not null`,
  isBelow: (self, say, value) => `${self} < ${say(value)}`,
  isAtMost: (self, say, value) => `${self} <= ${say(value)}`,
  isAbove: (self, say, value) => `${self} > ${say(value)}`,
  isAtLeast: (self, say, value) => `${self} >= ${say(value)}`,
  isLike: (self, _say, value) => `${self} like ${sayValue(value, scalarTypes.text)}`,
  startsWith: (self, _say, value) => `${self} starts with ${sayValue(value, scalarTypes.text)}`,
  endsWith: (self, _say, value) => `${self} ends with ${sayValue(value, scalarTypes.text)}`,
  contains: (self, _say, value) => `${self} contains ${sayValue(value, scalarTypes.text)}`,
  includes: (self, say, value) => `${say(value)} in ${self}`,
};

function listOf(values: unknown): readonly unknown[] {
  if (Array.isArray(values) && values.length > 0) return values;
  throw portierError("wrong-call", { what: "isOneOf needs a list of values", hint: "give at least one" });
}

type FieldDeclaration = string | { readonly [key: string]: unknown };

/** The scope of one table's conditions, made of proxies that put text together. */
export function conditionScope(declaration: Declaration, table: string): ConditionScope<Declaration, string> {
  const people = (declaration.people as { table?: string } | undefined)?.table;
  const request = { ...declaration.request, now: "timestamp" };
  return {
    record: scopeOf(declaration, table, ""),
    me: people === undefined ? undefined : scopeOf(declaration, people, "me"),
    request: new Proxy({}, { get: (_, name: string) => requestOperand(name, request[name as "now"]) }),
    today: makeProxy("today", scalarTypes.date, () => undefined),
    may: (action: string, reference: object) => {
      const leads = pathOf(reference);
      if (leads !== undefined) return new TypedCondition(`may ${printName(action)} ${leads}`);
      throw portierError("wrong-call", {
        what: "may asks about a reference",
        hint: "give a field such as record.keeper",
      });
    },
    isMember: (reference: object, member: string, on?: object) => {
      const [person, record] = [pathOf(reference), pathOf(on)];
      if (person !== undefined && (record !== undefined || on === undefined)) {
        const scope = record === undefined ? "" : ` of ${record}`;
        return new TypedCondition(`${person} is ${printName(member, true)}${scope}`);
      }
      throw portierError("wrong-call", {
        what: "isMember asks about references",
        hint: "give fields such as record.keeper and record.exhibition",
      });
    },
  } as unknown as ConditionScope<Declaration, string>;
}

function requestOperand(name: string, declared: string | undefined): unknown {
  return makeProxy(`request.${printName(name)}`, scalarOf(declared), () => undefined);
}

function scalarOf(name: unknown): FieldType {
  return typeof name === "string" && isScalarTypeName(name) ? scalarTypes[name] : scalarTypes.text;
}

function scopeOf(declaration: Declaration, table: string, at: string): unknown {
  const fields = declaration.tables[table]?.fields ?? {};
  const into = (name: string): unknown => {
    if (!Object.hasOwn(fields, name)) return undefined;
    const field = fields[name] as FieldDeclaration;
    const here = at === "" ? printName(name, true) : `${at}.${printName(name)}`;
    const target = typeof field === "string" ? undefined : field["reference"];
    const type = typeOf(declaration, table, field);
    if (typeof target !== "string") return makeProxy(here, type, () => undefined);
    const through = scopeOf(declaration, target, here) as Record<string, unknown>;
    return makeProxy(here, type, (further) => through[further]);
  };
  return makeProxy(at, keyType(declaration, table), into);
}

/** The type that the literals of a field, or the elements of a list, are written in. */
function typeOf(declaration: Declaration, table: string, field: FieldDeclaration): FieldType {
  if (typeof field === "string") return scalarOf(field);
  const { type, choice: choices, reference, list, lookup } = field;
  if (Array.isArray(choices)) return choice(choices);
  if (typeof reference === "string") return keyType(declaration, reference);
  if (list !== undefined) return typeOf(declaration, table, list as FieldDeclaration);
  if (lookup === undefined) return scalarOf(type);
  const { through, field: shown } = lookup as { through: string; field: string };
  const target = (declaration.tables[table]?.fields[through] as { reference?: string } | undefined)?.reference ?? "";
  return typeOf(declaration, target, (declaration.tables[target]?.fields[shown] ?? "text") as FieldDeclaration);
}

/** A key of several fields is compared as its address, a text. */
function keyType(declaration: Declaration, table: string): FieldType {
  const { key, fields } = declaration.tables[table] ?? {};
  const [name, ...more] = typeof key === "string" ? [key] : (key ?? []);
  const field = name === undefined || more.length > 0 ? undefined : fields?.[name];
  // A key that is a reference to its own table is found out when the document is compiled.
  const isCircle = typeof field === "object" && (field as { reference?: unknown }).reference === table;
  return field === undefined || isCircle ? scalarTypes.text : typeOf(declaration, table, field as FieldDeclaration);
}

function makeProxy(here: string, type: FieldType, into: (name: string) => unknown): unknown {
  const say: Say = (value) => sayValue(value, type);
  return new Proxy(
    {},
    {
      get: (_, name) => {
        if (name === path) return here;
        if (typeof name !== "string") return undefined;
        // A field goes before an operator of the same name.
        const found = into(name);
        if (found !== undefined) return found;
        const operator = Object.hasOwn(operators, name) ? operators[name] : undefined;
        return operator && ((value: unknown) => new TypedCondition(operator(here, say, value)));
      },
    },
  );
}

/** Where an operand of a condition stands; undefined for anything else. */
function pathOf(value: unknown): string | undefined {
  return typeof value === "object" && value !== null ? (value as { readonly [path]?: string })[path] : undefined;
}

/**
 * Another operand, or a value as a literal of the type that it is compared with. What is not a value of it is an error: no
 * value may become a part of the condition.
 */
function sayValue(value: unknown, type: FieldType): string {
  const other = pathOf(value);
  if (other !== undefined) return other;
  // Whole numbers and decimals compare, however an application holds them.
  const isNumber = type.base === "integer" || type.base === "decimal";
  const numeric = isNumber && typeof value === "number" ? scalarTypes.decimal.canonical(String(value)) : undefined;
  if (numeric !== undefined) return scalarTypes.decimal.literal(numeric);
  const canonical = value === null || value === undefined ? undefined : type.canonical(value);
  if (canonical !== undefined) return type.literal(canonical);
  throw portierError("wrong-call", {
    what: `a condition compares with ${type.expects} or with another field, not with ${shown(value)}`,
    hint: "for null, ask isNull()",
  });
}

function shown(value: unknown): string {
  if (typeof value === "string") return JSON.stringify(value);
  return typeof value === "object" && value !== null ? "an object" : String(value);
}
