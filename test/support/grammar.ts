import fc from "fast-check";
import {
  type Condition,
  matchWords,
  type OperandSyntax,
  type PathSyntax,
  partsOf,
} from "../../src/conditions/syntax.js";

/** The tables of a document as they are written, and what its requests declare. */
export interface Shapes {
  readonly people: string;
  readonly tables: Readonly<
    Record<string, { readonly owner?: string; readonly fields: Readonly<Record<string, unknown>> }>
  >;
  readonly request: Readonly<Record<string, string>>;
  /** What somebody can be: roles and groups, and roles that are held on a record of a table. */
  readonly members: readonly string[];
  readonly scoped: { readonly roles: readonly string[]; readonly table: string };
  /** Tables whose records no `may` asks for, as their rules ask of others themselves. */
  readonly unasked: readonly string[];
}

/** `text`, `number`, `date`, ...; `choice a,b`; `ref staff`; `list number`. */
type Type = string;

interface TypedPath {
  readonly path: PathSyntax;
  readonly type: Type;
}

const at = 0;

/**
 * Draws conditions about a record of a table that are right, from the whole grammar: every production inside every other
 * that it may stand in, every type, paths of up to three steps. {@link countPairs} says which pairs were drawn.
 */
export function conditionsAbout(shapes: Shapes, table: string): fc.Arbitrary<Condition> {
  return new Grammar(shapes, table, undefined).condition(3);
}

/** Draws filters: conditions on nothing but the record's own fields. */
export function filtersOf(shapes: Shapes, table: string): fc.Arbitrary<Condition> {
  return new Grammar(shapes, table, undefined, true).condition(2);
}

class Grammar {
  readonly #shapes: Shapes;
  readonly #table: string;
  readonly #outer: string | undefined;
  readonly #isFilter: boolean;
  /** By type, the paths that lead to such a value, by their root and number of steps. */
  readonly #paths = new Map<Type, Map<string, PathSyntax[]>>();
  /** By depth, conditions on records of other tables. */
  readonly #made = new Map<number, fc.Arbitrary<Condition>>();

  constructor(shapes: Shapes, table: string, outer: string | undefined, isFilter = false) {
    this.#shapes = shapes;
    this.#table = table;
    this.#outer = outer;
    this.#isFilter = isFilter;
    if (isFilter) {
      const isOwn = (shape: unknown) =>
        !Object.hasOwn(shape as object, "lookup") && !Object.hasOwn(shape as object, "by");
      const own = Object.entries(this.#shape(table).fields).filter(([, shape]) => isOwn(Object(shape)));
      this.#addAll(
        "record",
        own.map(([name, shape]) => ({ path: made("record", [name]), type: typeOf(shapes, shape, table) })),
      );
      return;
    }
    const { people, request } = shapes;
    const { owner } = this.#shape(table);
    this.#addAll("record", pathsFrom(shapes, table, 3));
    this.#addAll("me", [{ path: made("me", []), type: `ref ${people}` }, ...pathsFrom(shapes, people, 2, "me")]);
    const own = outer ?? table;
    this.#addAll("this", [{ path: made("this", []), type: `ref ${own}` }, ...pathsFrom(shapes, own, 2, "this")]);
    if (owner !== undefined) {
      this.#addAll("owner", [{ path: made("owner", []), type: `ref ${people}` }]);
      this.#addAll("owner", pathsFrom(shapes, people, 1, "owner"));
    }
    const promised = Object.entries({ now: "timestamp", ...request });
    this.#addAll(
      "request",
      promised.map(([name, type]) => ({ path: made("request", [name]), type: typeOf(shapes, type) })),
    );
  }

  #shape(name: string) {
    const shape = this.#shapes.tables[name];
    if (shape === undefined) throw new Error(`no table ${name}`);
    return shape;
  }

  #addAll(root: string, paths: readonly TypedPath[]): void {
    for (const { path, type } of paths) {
      const id = root === "record" ? `${root} ${path.names.length}` : root;
      const byKind = this.#paths.get(type) ?? new Map<string, PathSyntax[]>();
      byKind.set(id, [...(byKind.get(id) ?? []), path]);
      this.#paths.set(type, byKind);
    }
  }

  /** Paths to a value of a type, as many of each kind. */
  #pathTo(type: Type, isOfRecord = false): fc.Arbitrary<PathSyntax> | undefined {
    const kinds = [...(this.#paths.get(type) ?? [])].filter(([id]) => !isOfRecord || id !== "request");
    const weights = { "record 1": 4, "record 2": 2 } as Readonly<Record<string, number>>;
    return kinds.length === 0
      ? undefined
      : fc.oneof(...kinds.map(([id, paths]) => ({ weight: weights[id] ?? 1, arbitrary: fc.constantFrom(...paths) })));
  }

  #operand(type: Type, depth = 2): fc.Arbitrary<OperandSyntax> {
    const plain: fc.WeightedArbitrary<OperandSyntax>[] = [];
    const path = this.#pathTo(type);
    if (path !== undefined) plain.push({ weight: 6, arbitrary: path });
    plain.push({ weight: 3, arbitrary: literals(type) });
    if (type === "date") plain.push({ weight: 2, arbitrary: fc.constant({ kind: "today", at }) });
    if ((type !== "date" && type !== "timestamp") || depth === 0) return fc.oneof(...plain);
    const units = type === "date" ? (["day"] as const) : (["day", "hour", "minute"] as const);
    const shift = fc
      .tuple(this.#operand(type, depth - 1), amounts, fc.constantFrom(...units))
      .map(([operand, amount, unit]): OperandSyntax => ({ kind: "shift", operand, amount, unit, at }));
    return fc.oneof(...plain, { weight: 4, arbitrary: shift });
  }

  #types(isFit: (type: Type) => boolean): readonly Type[] {
    return [...this.#paths.keys()].filter(isFit);
  }

  /** An operand that can be null where the grammar lets it be. */
  #orNull(one: fc.Arbitrary<OperandSyntax>): fc.Arbitrary<OperandSyntax> {
    return fc.oneof({ weight: 12, arbitrary: one }, { weight: 1, arbitrary: fc.constant({ kind: "null", at }) });
  }

  /** One of the types, each as often as the others. */
  #of(types: readonly Type[], make: (type: Type) => fc.Arbitrary<Condition>): fc.Arbitrary<Condition> {
    const common = types.filter((type) => !type.startsWith("ref ") && !type.startsWith("choice "));
    const rest = types.filter((type) => !common.includes(type));
    const each = (some: readonly Type[]) => fc.oneof(...some.map(make));
    if (common.length === 0 || rest.length === 0) return each(types);
    return fc.oneof({ weight: 3, arbitrary: each(common) }, { weight: 2, arbitrary: each(rest) });
  }

  #leaves(): readonly fc.Arbitrary<Condition>[] {
    const scalars = this.#types((type) => type !== "json" && !type.startsWith("list "));
    const comparables = this.#types((type) => type !== "json");
    const ordered = scalars.filter((type) => ["text", "number", "date", "timestamp"].includes(type));
    const lists = this.#types((type) => type.startsWith("list "));
    const compare = this.#of(comparables, (type) => {
      const ops = ordered.includes(type) ? (["=", "<>", "<", "<=", ">", ">="] as const) : (["=", "<>"] as const);
      const right = type.startsWith("list ") ? this.#pathTo(type) : this.#operand(type);
      return fc.record({
        kind: fc.constant("compare" as const),
        op: fc.constantFrom(...ops),
        left: type.startsWith("list ") ? (this.#pathTo(type) as fc.Arbitrary<PathSyntax>) : this.#operand(type),
        right: this.#orNull(right as fc.Arbitrary<OperandSyntax>),
        at: fc.constant(at),
      });
    });
    const among = this.#of(scalars, (type) =>
      fc.record({
        kind: fc.constant("in" as const),
        negated: fc.boolean(),
        operand: this.#operand(type),
        items: fc.array(this.#orNull(this.#operand(type)), { minLength: 1, maxLength: 3 }),
        at: fc.constant(at),
      }),
    );
    const between = this.#of(ordered, (type) =>
      fc.record({
        kind: fc.constant("between" as const),
        negated: fc.boolean(),
        operand: this.#operand(type),
        low: this.#orNull(this.#operand(type)),
        high: this.#operand(type),
        at: fc.constant(at),
      }),
    );
    const match = fc.record({
      kind: fc.constant("match" as const),
      how: fc.constantFrom(...matchWords),
      negated: fc.boolean(),
      operand: this.#operand("text"),
      pattern: this.#orNull(
        fc.oneof(
          this.#operand("text"),
          fc.constantFrom("a%", "_", "%b_").map((value): OperandSyntax => ({ kind: "text", value, at })),
        ),
      ),
      at: fc.constant(at),
    });
    const isNull = this.#of(
      this.#types(() => true),
      (type) =>
        fc.record({
          kind: fc.constant("is-null" as const),
          negated: fc.boolean(),
          operand: this.#orNull(
            type === "json" || type.startsWith("list ")
              ? (this.#pathTo(type) as fc.Arbitrary<PathSyntax>)
              : this.#operand(type),
          ),
          at: fc.constant(at),
        }),
    );
    const inList = fc.oneof(
      ...lists.map((type) =>
        fc.record({
          kind: fc.constant("in-list" as const),
          negated: fc.boolean(),
          operand: this.#operand(elementOf(type)),
          list: this.#pathTo(type) as fc.Arbitrary<PathSyntax>,
          at: fc.constant(at),
        }),
      ),
    );
    return [compare, among, between, match, isNull, inList];
  }

  #member(): fc.Arbitrary<Condition> {
    const { people, members, scoped } = this.#shapes;
    const person = this.#pathTo(`ref ${people}`, true) as fc.Arbitrary<PathSyntax>;
    const persons = this.#pathTo(`list ref ${people}`, true);
    const record = this.#pathTo(`ref ${scoped.table}`, true);
    const member = (path: fc.Arbitrary<PathSyntax>, names: readonly string[], on?: fc.Arbitrary<PathSyntax>) =>
      fc.record({
        kind: fc.constant("member" as const),
        negated: fc.boolean(),
        path,
        name: fc.constantFrom(...names),
        nameAt: fc.constant(at),
        on: on ?? fc.constant(undefined),
        at: fc.constant(at),
      });
    // What the current user holds on a record is asked of the record at hand.
    const isAsked = ({ path, on }: { path: PathSyntax; on: PathSyntax | undefined }) =>
      path.root !== "me" || path.names.length > 0 || on?.root === "record";
    return fc.oneof(
      { weight: 4, arbitrary: member(person, members) },
      ...(persons === undefined ? [] : [{ weight: 1, arbitrary: member(persons, members) }]),
      ...(record === undefined ? [] : [{ weight: 3, arbitrary: member(person, scoped.roles, record).filter(isAsked) }]),
    );
  }

  #may(): fc.Arbitrary<Condition> {
    const { unasked } = this.#shapes;
    const targets = this.#types((type) => type.startsWith("ref ") && !unasked.includes(type.slice("ref ".length)));
    const paths = targets.map((type) => this.#pathTo(type, true)).filter((one) => one !== undefined);
    return fc.record({
      kind: fc.constant("may" as const),
      action: fc.constantFrom("view", "list", "edit", "delete", "export", "bulk"),
      actionAt: fc.constant(at),
      path: fc.oneof(...paths),
      at: fc.constant(at),
    });
  }

  #exists(depth: number): fc.Arbitrary<Condition> {
    const outer = this.#outer ?? this.#table;
    const inner = Object.keys(this.#shapes.tables).filter((name) => name !== "sheet");
    return fc.oneof(
      ...inner.map((table) =>
        fc.record({
          kind: fc.constant("exists" as const),
          table: fc.constant(table),
          tableAt: fc.constant(at),
          condition: new Grammar(this.#shapes, table, outer).condition(depth),
          at: fc.constant(at),
        }),
      ),
    );
  }

  condition(depth: number): fc.Arbitrary<Condition> {
    const truth = fc.record({
      kind: fc.constant("truth" as const),
      value: fc.boolean(),
      at: fc.constant(at),
    });
    const plain = [
      ...this.#leaves().map((arbitrary) => ({ weight: 3, arbitrary })),
      { weight: 2, arbitrary: truth },
      ...(this.#isFilter
        ? []
        : [
            { weight: 3, arbitrary: this.#may() },
            { weight: 3, arbitrary: this.#member() },
          ]),
    ];
    if (depth === 0) return fc.oneof(...plain);
    const inner = this.condition(depth - 1);
    const not = fc.record({ kind: fc.constant("not" as const), term: inner, at: fc.constant(at) });
    const chain = fc.record({
      kind: fc.constantFrom("and" as const, "or" as const),
      terms: fc.array(inner, { minLength: 2, maxLength: 3 }),
      at: fc.constant(at),
    });
    // Conditions inside are made when they are asked for: all tables inside all tables are many.
    const exists = fc.constant(undefined).chain(() => {
      const made = this.#made.get(depth) ?? this.#exists(depth > 1 ? 1 : 0);
      this.#made.set(depth, made);
      return made;
    });
    return fc.oneof(
      ...plain,
      { weight: 4, arbitrary: not },
      { weight: 8, arbitrary: chain },
      ...(this.#isFilter ? [] : [{ weight: 6, arbitrary: exists }]),
    );
  }
}

/** From a day to more than there are in the calendar. */
const amounts = fc.oneof(
  { weight: 6, arbitrary: fc.integer({ min: -3, max: 3 }) },
  { weight: 2, arbitrary: fc.constantFrom(90, -31, 1_440, 2_912_000, -739_000, 3_652_058, -3_652_059) },
  { weight: 1, arbitrary: fc.constantFrom(2_147_483_647, -2_147_483_648, Number.MAX_SAFE_INTEGER) },
);

function made(root: PathSyntax["root"], names: readonly string[]): PathSyntax {
  return { kind: "path", root, names, places: names.map(() => 0), at };
}

function literals(type: Type): fc.Arbitrary<OperandSyntax> {
  const texts = (...values: string[]) =>
    fc.constantFrom(...values).map((value) => ({ kind: "text", value, at }) as const);
  const dated = (kind: "date" | "timestamp", ...values: string[]) =>
    fc.constantFrom(...values).map((value) => ({ kind, value, at }) as const);
  if (type.startsWith("choice ")) return texts(...type.slice("choice ".length).split(","));
  if (type.startsWith("ref ")) {
    const keys = { staff: ["p1", "p2", "gone"], team: ["e1/p1", "none"] } as Readonly<Record<string, string[]>>;
    const table = type.slice("ref ".length);
    return texts(...(keys[table] ?? [`${table.slice(0, 1)}1`, "gone"]));
  }
  switch (type) {
    case "text":
      return texts("a", "ab", "b'", "");
    case "number":
      return fc.constantFrom("1", "-2", "1.5", "1.0").map((digits) => ({ kind: "number", digits, at }) as const);
    case "boolean":
      return fc.boolean().map((value) => ({ kind: "boolean", value, at }) as const);
    case "date":
      return dated("date", "2027-01-31", "2027-02-02", "9999-12-31", "0001-01-01");
    case "timestamp":
      return dated("timestamp", "2027-01-31T13:00:00+01:00", "2027-01-31T12:00:00.000001Z", "9999-12-31T23:59:59Z");
    default:
      throw new Error(`no literal of ${type}`);
  }
}

/** All paths of so many steps at most, and what they lead to. */
function pathsFrom(shapes: Shapes, table: string, steps: number, root: PathSyntax["root"] = "record"): TypedPath[] {
  const walk = (from: string, before: readonly string[]): TypedPath[] =>
    Object.entries(shapes.tables[from]?.fields ?? {}).flatMap(([name, shape]) => {
      const type = typeOf(shapes, shape, from);
      const names = [...before, name];
      const further = type.startsWith("ref ") && names.length < steps ? walk(type.slice("ref ".length), names) : [];
      return [{ path: made(root, names), type }, ...further];
    });
  return walk(table, []);
}

function typeOf(shapes: Shapes, shape: unknown, table = ""): Type {
  if (typeof shape === "string") return shape === "integer" || shape === "decimal" ? "number" : shape;
  const { type, choice, reference, list, lookup } = shape as Readonly<Record<string, unknown>>;
  if (type !== undefined) return typeOf(shapes, type);
  if (choice !== undefined) return `choice ${(choice as string[]).join(",")}`;
  if (reference !== undefined) return `ref ${reference as string}`;
  // Lists are told apart by what an element is: whole numbers are looked for in decimals, but lists of both are not equal.
  if (list !== undefined) return `list ${list === "integer" || list === "decimal" ? list : typeOf(shapes, list)}`;
  const { through, field } = lookup as { through: string; field: string };
  const [, target = ""] = typeOf(shapes, shapes.tables[table]?.fields[through]).split(" ");
  return typeOf(shapes, shapes.tables[target]?.fields[field], target);
}

/** Whole numbers are looked for in lists of decimals, and the reverse. */
function elementOf(list: Type): Type {
  const element = list.slice("list ".length);
  return element === "integer" || element === "decimal" ? "number" : element;
}

// Counting

type Node = Condition | OperandSyntax;

function nameOf(node: Node): string {
  if (node.kind !== "path") return node.kind === "match" ? node.how : node.kind;
  return node.root === "record" ? `path of ${node.names.length}` : node.root;
}

/** Counts which production stands in which. */
export function countPairs(node: Node, counts: Map<string, number>): void {
  for (const child of partsOf(node)) {
    const pair = `${nameOf(child)} in ${nameOf(node)}`;
    counts.set(pair, (counts.get(pair) ?? 0) + 1);
    countPairs(child, counts);
  }
}

const paths = ["path of 1", "path of 2", "path of 3", "me", "this", "owner"];
const literalKinds = ["text", "number", "boolean", "date", "timestamp"];
const conditionKinds = [
  ...["truth", "and", "or", "not", "compare", "in", "in-list", "between", ...matchWords],
  ...["is-null", "exists", "may", "member"],
];
const inside: Readonly<Record<string, readonly string[]>> = {
  ...Object.fromEntries(["and", "or", "not", "exists"].map((kind) => [kind, conditionKinds])),
  ...Object.fromEntries(
    ["compare", "in", "is-null"].map((kind) => [
      kind,
      [...literalKinds, "null", "today", "shift", "request", ...paths],
    ]),
  ),
  between: ["text", "number", "date", "timestamp", "null", "today", "shift", "request", ...paths],
  "in-list": [...literalKinds, "today", "shift", "request", ...paths],
  ...Object.fromEntries(matchWords.map((word) => [word, ["text", "null", "request", ...paths]])),
  shift: ["date", "timestamp", "today", "shift", "request", ...paths],
  may: paths,
  member: paths,
};

/** Every pair that the grammar has. */
export const pairs: readonly string[] = Object.entries(inside).flatMap(([parent, children]) =>
  children.map((child) => `${child} in ${parent}`),
);
