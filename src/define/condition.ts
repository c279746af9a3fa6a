import { printName } from "../conditions/printer.js";
import { portierError } from "../schema/problems.js";
import { quoteText } from "../schema/scalar.js";
import type { CustomAction, Declaration, FieldName, StoredValue, TableName, TargetOf } from "./types.js";

/** A condition that was put together; `text` is what it says in a document. */
export class TypedCondition {
  readonly text: string;
  readonly #isLoose: boolean;

  constructor(text: string, isLoose = false) {
    this.text = text;
    this.#isLoose = isLoose;
  }

  and(other: TypedCondition): TypedCondition {
    return new TypedCondition(`${this.#tight()} and ${other.#tight()}`, true);
  }

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

/** Something that a condition compares: a field of the record, of the person, of the request. */
export interface Operand<V> {
  /** Equal. Comparing with null is an error here: ask {@link isNull}. */
  is(value: V | Operand<V>): TypedCondition;
  isNot(value: V | Operand<V>): TypedCondition;
  isOneOf(values: readonly (V | Operand<V>)[]): TypedCondition;
  isNull(): TypedCondition;
  isNotNull(): TypedCondition;
}

/** Numbers, texts, dates and timestamps have an order. */
export interface OrderedOperand<V> extends Operand<V> {
  isBelow(value: V | Operand<V>): TypedCondition;
  isAtMost(value: V | Operand<V>): TypedCondition;
  isAbove(value: V | Operand<V>): TypedCondition;
  isAtLeast(value: V | Operand<V>): TypedCondition;
}

export interface TextOperand<V> extends OrderedOperand<V> {
  /** `%` is any run of characters, `_` any one. */
  isLike(pattern: string): TypedCondition;
  startsWith(text: string): TypedCondition;
  endsWith(text: string): TypedCondition;
  contains(text: string): TypedCondition;
}

export interface ListOperand<V> extends Operand<readonly V[]> {
  includes(value: V | Operand<V>): TypedCondition;
}

type OperandOf<V> = [V] extends [readonly (infer E)[]]
  ? ListOperand<E>
  : [V] extends [boolean]
    ? Operand<boolean>
    : string extends V
      ? TextOperand<string>
      : [V] extends [number]
        ? OrderedOperand<number>
        : Operand<V>;

/** A record in a condition: its fields, and through references those of other records. */
export type RecordScope<D extends Declaration, T extends TableName<D>> = {
  readonly [F in FieldName<D, T>]: [TargetOf<D, T, F>] extends [never]
    ? OperandOf<StoredValue<D, T, F>>
    : Operand<StoredValue<D, T, F>> & RecordScope<D, TargetOf<D, T, F>>;
};

/** What a condition is made of. */
export interface ConditionScope<D extends Declaration, T extends TableName<D>> {
  readonly record: RecordScope<D, T>;
  /** The person who asks; `me` itself is their key. */
  readonly me: PersonScope<D>;
  readonly request: { readonly [R in keyof D["request"] & string]: TextOperand<string> } & {
    readonly now: TextOperand<string>;
  };
  /** The day of the session. */
  readonly today: TextOperand<string>;
  /** May this person do it with the record that the reference leads to? */
  may(
    action: "list" | "view" | "edit" | "delete" | "export" | "bulk" | CustomAction<D, TableName<D>>,
    reference: object,
  ): TypedCondition;
}

type PersonScope<D extends Declaration> = D["people"] extends { readonly table: infer P extends TableName<D> }
  ? Operand<string> & RecordScope<D, P>
  : never;

/** A condition as a rule takes it: text, a boolean, or a function that puts one together. */
export type ConditionOf<D extends Declaration, T extends TableName<D>> =
  | string
  | boolean
  | ((scope: ConditionScope<D, T>) => TypedCondition);

const path = Symbol("path");

const operators: Readonly<Record<string, (self: string, say: (value: unknown) => string, value: unknown) => string>> = {
  is: (self, say, value) => `${self} = ${say(value)}`,
  isNot: (self, say, value) => `${self} <> ${say(value)}`,
  isOneOf: (self, say, values) => `${self} in (${(values as unknown[]).map(say).join(", ")})`,
  isNull: (self) => `${self} is null`,
  isNotNull: (self) => `${self} is not null`,
  isBelow: (self, say, value) => `${self} < ${say(value)}`,
  isAtMost: (self, say, value) => `${self} <= ${say(value)}`,
  isAbove: (self, say, value) => `${self} > ${say(value)}`,
  isAtLeast: (self, say, value) => `${self} >= ${say(value)}`,
  isLike: (self, say, value) => `${self} like ${say(value)}`,
  startsWith: (self, say, value) => `${self} starts with ${say(value)}`,
  endsWith: (self, say, value) => `${self} ends with ${say(value)}`,
  contains: (self, say, value) => `${self} contains ${say(value)}`,
  includes: (self, say, value) => `${say(value)} in ${self}`,
};

type FieldDeclaration = string | { readonly [key: string]: unknown };

/** The scope of one table's conditions, made of proxies that put text together. */
export function conditionScope(declaration: Declaration, table: string): ConditionScope<Declaration, string> {
  const people = (declaration.people as { table?: string } | undefined)?.table;
  const request = { ...declaration.request, now: "timestamp" };
  return {
    record: scopeOf(declaration, table, ""),
    me: people === undefined ? undefined : scopeOf(declaration, people, "me"),
    request: new Proxy({}, { get: (_, name: string) => operandOf("request", name, request[name as "now"] ?? "text") }),
    today: makeProxy("today", "date", () => undefined),
    may: (action: string, reference: object) =>
      new TypedCondition(`may ${printName(action)} ${(reference as { [path]: string })[path]}`),
  } as unknown as ConditionScope<Declaration, string>;
}

function operandOf(prefix: string, name: string, type: string): unknown {
  return makeProxy(`${prefix}.${printName(name)}`, type, () => undefined);
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
  return makeProxy(at, "text", into);
}

/** The name of the type that a field's literals are written in. */
function typeOf(declaration: Declaration, table: string, field: FieldDeclaration): string {
  if (typeof field === "string") return field;
  if (typeof field["type"] === "string") return field["type"];
  if (typeof field["list"] === "string") return field["list"];
  const lookup = field["lookup"] as { through: string; field: string } | undefined;
  if (lookup === undefined) return "text";
  const through = declaration.tables[table]?.fields[lookup.through] as { reference?: string } | undefined;
  const shown = declaration.tables[through?.reference ?? ""]?.fields[lookup.field] as FieldDeclaration | undefined;
  return shown === undefined ? "text" : typeOf(declaration, through?.reference ?? "", shown);
}

function makeProxy(here: string, type: string, into: (name: string) => unknown): unknown {
  const say = (value: unknown): string => sayValue(value, type);
  return new Proxy(
    {},
    {
      get: (_, name) => {
        if (name === path) return here;
        if (typeof name !== "string") return undefined;
        // A field goes before an operator of the same name.
        const found = into(name);
        if (found !== undefined) return found;
        const operator = operators[name];
        if (operator === undefined) return undefined;
        return (value: unknown) => new TypedCondition(operator(here, say, value));
      },
    },
  );
}

/** A value as a condition writes it, in the type of what it is compared with. */
function sayValue(value: unknown, type: string): string {
  if (typeof value === "object" && value !== null) {
    const other = (value as { [path]?: string })[path];
    if (other !== undefined) return other;
  }
  if (typeof value === "boolean" || typeof value === "number") return String(value);
  if (typeof value === "string") {
    if (type === "date" || type === "timestamp") return `${type} ${quoteText(value)}`;
    return type === "decimal" ? value : quoteText(value);
  }
  throw portierError("wrong-call", {
    what: "a condition compares with a value or a field",
    hint: "for null, ask isNull()",
  });
}
