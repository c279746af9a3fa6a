import { parseCondition } from "../../src/conditions/parser.js";
import type { Condition, OperandSyntax, PathSyntax } from "../../src/conditions/syntax.js";

/**
 * The rule model a second time, as plainly as it is written down: no plan, no partial evaluation, no index; every rule of
 * a table is walked for every question. It takes any right document; only the condition parser is shared
 * with the library.
 */

export type Row = Readonly<Record<string, unknown>>;
// biome-ignore lint/suspicious/noExplicitAny: the document as it was written
type Json = Readonly<Record<string, any>>;

export interface World {
  readonly document: Json;
  readonly data: Readonly<Record<string, readonly Row[]>>;
  /** The key of the current user; undefined for a visitor. */
  readonly me: string | undefined;
  /** The key of who acts for that person, by a delegation that runs. */
  readonly actedBy?: string | undefined;
  /** A whole second in UTC; the documents tested are in UTC, too. */
  readonly now: string;
  readonly request?: Row;
}

/** A value that does not fit its type. */
const bad = Symbol("bad data");
type Value = string | bigint | boolean | null | typeof bad | readonly Value[];

/**
 * What a condition can be, with bad data taken for anything: a set of outcomes. Null makes a comparison unknown for
 * certain, bad data leaves all three open.
 */
type Truth = number;
const F = 1;
const N = 2;
const T = 4;
const anything = F | N | T;
const of = (holds: boolean): Truth => (holds ? T : F);
const outcomes = [F, N, T];

function combine(a: Truth, b: Truth, pick: (x: number, y: number) => number): Truth {
  let all = 0;
  for (const x of outcomes) for (const y of outcomes) if (a & x && b & y) all |= pick(x, y);
  return all;
}
const and = (truths: readonly Truth[]) => truths.reduce((a, b) => combine(a, b, Math.min), T);
const or = (truths: readonly Truth[]) => truths.reduce((a, b) => combine(a, b, Math.max), F);
const not = (truth: Truth) => (truth & F ? T : 0) | (truth & N) | (truth & T ? F : 0);
const isTrue = (truth: Truth) => truth === T;
const isFalse = (truth: Truth) => truth === F;

interface Shape {
  readonly type: string;
  readonly target?: string;
  readonly element?: Shape;
  readonly choices?: readonly string[];
  readonly by?: readonly string[];
  readonly lookup?: { through: string; field: string };
  readonly flags: Json;
}

// biome-ignore lint/suspicious/noExplicitAny: the document as it was written
function listed(value: unknown): any[] {
  if (value === undefined) return [];
  return Array.isArray(value) ? value : [value];
}

interface Rule {
  readonly address: string;
  readonly effect: "permit" | "deny" | "reserve" | "confirm";
  readonly body: Json;
}

/** What a change comes to: `ok`, `not-found`, `invalid`, `confirm RULES`, or the refused fields (`act` for the whole). */
export interface Outcome {
  readonly answer: string;
  readonly record?: Row;
  readonly dropped: string;
}

export class Naive {
  readonly #world: World;
  readonly #now: bigint;
  readonly #recordsSeen = new Map<Row, Map<string, boolean>>();
  readonly #rulesOf = new Map<string, readonly Rule[]>();
  readonly #others = new Map<string, Naive>();

  /** Whoever acts for the person, by themselves. */
  readonly #actor: Naive | undefined;

  constructor(world: World) {
    this.#world = world;
    const { actedBy, ...own } = world;
    this.#actor = actedBy === undefined ? undefined : new Naive({ ...own, me: actedBy });
    this.#now = microseconds(world.now);
  }

  // Shapes

  #table(name: string): Json {
    return this.#world.document["tables"][name];
  }

  fieldsOf(table: string): string[] {
    return Object.keys(this.#table(table)["fields"]);
  }

  #keyOf(table: string): string[] {
    return listed(this.#table(table)["key"]);
  }

  shape(table: string, name: string): Shape {
    const declared = this.#table(table)["fields"][name];
    if (typeof declared === "string") return { type: declared, flags: {} };
    const { reference, by, choice, list, lookup, type } = declared;
    if (lookup !== undefined) {
      const through = this.shape(table, lookup.through);
      return { ...this.shape(through.target as string, lookup.field), lookup, flags: { ...declared, computed: true } };
    }
    if (reference !== undefined) {
      const flags = by === undefined ? declared : { ...declared, computed: true };
      return { type: "reference", target: reference, by, flags };
    }
    if (choice !== undefined) return { type: "choice", choices: choice, flags: declared };
    if (list !== undefined) {
      const element: Shape =
        typeof list === "string"
          ? { type: list, flags: {} }
          : list.choice !== undefined
            ? { type: "choice", choices: list.choice, flags: {} }
            : { type: "reference", target: list.reference, flags: {} };
      return { type: "list", element, flags: declared };
    }
    return { type, flags: declared };
  }

  // Values

  #read(shape: Shape, raw: unknown): Value {
    if (raw === null) return null;
    switch (shape.type) {
      case "text":
        return typeof raw === "string" ? raw : bad;
      case "choice":
        return typeof raw === "string" && shape.choices?.includes(raw) ? raw : bad;
      case "reference": {
        const [first = "", ...more] = this.#keyOf(shape.target as string);
        if (more.length > 0) return typeof raw === "string" ? raw : bad;
        return this.#read(this.shape(shape.target as string, first), raw);
      }
      case "boolean":
        return typeof raw === "boolean" ? raw : bad;
      case "integer":
        return Number.isSafeInteger(raw) ? BigInt(raw as number) * 1000n : bad;
      case "decimal":
        return typeof raw === "string" && /^-?\d+(\.\d{1,3})?$/.test(raw) ? thousandths(raw) : bad;
      case "date": {
        const isDay = typeof raw === "string" && /^\d{4}-\d\d-\d\d$/.test(raw);
        const day = isDay ? new Date(`${raw}T00:00:00Z`) : new Date(Number.NaN);
        return !Number.isNaN(day.getTime()) && day.toISOString().startsWith(raw as string) ? (raw as string) : bad;
      }
      case "timestamp":
        return typeof raw === "string" && /^\d{4}-.*(Z|:\d\d)$/.test(raw) ? microseconds(raw) : bad;
      case "list": {
        if (!Array.isArray(raw)) return bad;
        const elements = raw.map((one) => (one === null ? bad : this.#read(shape.element as Shape, one)));
        return elements.includes(bad) ? bad : elements;
      }
      case "json":
        return JSON.stringify(sorted(raw)) ?? bad;
      default:
        throw new Error(shape.type);
    }
  }

  /** What a record holds in a field: stored, put together, or shown through a reference. */
  #field(table: string, row: Row, name: string): Value {
    const shape = this.shape(table, name);
    if (shape.by !== undefined) return this.#address(table, row, shape.by);
    if (shape.lookup === undefined) return row[name] === undefined ? bad : this.#read(shape, ownForm(shape, row[name]));
    return this.#follow(table, row, [shape.lookup.through, shape.lookup.field]);
  }

  #address(table: string, row: Row, names: readonly string[]): Value {
    const parts = names.map((name) => this.#field(table, row, name));
    const [first = null, ...more]: Value[] = parts;
    if (parts.includes(bad)) return bad;
    if (parts.includes(null)) return null;
    if (more.length === 0) return first;
    return parts.map((part) => printed(part).replaceAll("%", "%25").replaceAll("/", "%2F")).join("/");
  }

  #follow(table: string, row: Row | undefined, names: readonly string[]): Value {
    if (row === undefined) return null;
    const [name = "", ...rest] = names;
    const value = this.#field(table, row, name);
    if (rest.length === 0 || value === null || value === bad) return value;
    const target = this.shape(table, name).target as string;
    return this.#follow(target, this.find(target, value), rest);
  }

  find(table: string, key: Value): Row | undefined {
    const rows = this.#world.data[table] ?? [];
    return rows.find((row) => printed(this.#address(table, row, this.#keyOf(table))) === printed(key));
  }

  // The current user

  get #people(): Json {
    return this.#world.document["people"] ?? {};
  }

  get #person(): Row | undefined {
    return this.#world.me === undefined ? undefined : this.find(this.#people["table"], this.#world.me);
  }

  get #myKey(): Value {
    const person = this.#person;
    return person === undefined
      ? null
      : this.#address(this.#people["table"], person, this.#keyOf(this.#people["table"]));
  }

  /** A visitor, or a person who is there and active; nobody else meets anything. */
  asks(): boolean {
    if (this.#world.me === undefined) return true;
    const person = this.#person;
    const active = this.#people["active"];
    const isActive = active === undefined || ownForm({ type: "boolean", flags: {} }, person?.[active]) === true;
    return person !== undefined && isActive && this.#actor?.asks() !== false;
  }

  /** The delegations to somebody that run for certain. */
  delegationsTo(to: string): Row[] {
    const rows = this.#world.data["portier_delegations"] ?? [];
    return rows.filter(
      (row) => row["of"] === this.#myKey && row["to"] === to && isTrue(this.#runs(row, "from", "until")),
    );
  }

  /** Whether `from <= now < until`. */
  #runs(row: Row, from: string | undefined, until: string | undefined): Truth {
    const ends = [from, until].map((name) => {
      const end = name === undefined ? null : row[name];
      return this.#read({ type: "timestamp", flags: {} }, ownForm({ type: "timestamp", flags: {} }, end));
    });
    return and(
      ends.map((end, index) => {
        if (end === null) return T;
        return end === bad ? anything : of((end as bigint) <= this.#now === (index === 0));
      }),
    );
  }

  /** The roles that every delegation to whoever acts leaves out. */
  #withheld(): string[] {
    const { actedBy } = this.#world;
    const [first = [], ...more] =
      actedBy === undefined ? [] : this.delegationsTo(actedBy).map((row) => listed(row["without"] ?? undefined));
    return first.filter((role) => more.every((one) => one.includes(role)));
  }

  /** A group that somebody is named a member of brings itself alone. */
  #includes(role: string): string[] {
    const declared = this.#world.document["roles"]?.[role] ?? {};
    return [role, ...listed(declared.include).flatMap((one) => this.#includes(one))];
  }

  #given(): { role: string; on: Value | undefined; counts: Truth }[] {
    const person = this.#person;
    if (person === undefined) return [];
    const given: { role: string; on: Value | undefined; counts: Truth }[] = [];
    for (const source of listed(this.#people["roles"])) {
      if (typeof source === "string") {
        for (const role of listed(person[source] ?? undefined)) given.push({ role, on: undefined, counts: T });
        continue;
      }
      for (const row of this.#world.data[source.table] ?? []) {
        if (this.#field(source.table, row, source.person) !== this.#myKey || row[source.role] === null) continue;
        const on = source.on === undefined ? undefined : this.#field(source.table, row, source.on);
        const counts = this.#runs(row, source.from, source.until);
        if (on !== null && !isFalse(counts)) given.push({ role: row[source.role] as string, on, counts });
      }
    }
    const assigned = this.#people["assignments"] === true ? (this.#world.data["portier_assignments"] ?? []) : [];
    for (const row of assigned) {
      if (row["person"] !== this.#myKey) continue;
      const counts = this.#runs(row, "from", "until");
      if (!isFalse(counts)) given.push({ role: row["role"] as string, on: (row["on"] ?? undefined) as Value, counts });
    }
    return given;
  }

  /** The roles that the person holds for certain; scoped ones as `ROLE of KEY`, undecided ones left out. */
  roles(): string[] {
    if (!this.asks()) return [];
    const declared: Json = this.#world.document["roles"] ?? {};
    return Object.keys(declared).flatMap((name) => {
      if (declared[name].scope === undefined) return isTrue(this.#member(name)) ? [name] : [];
      const given = this.#given().filter(({ role, on }) => on !== undefined && this.#includes(role).includes(name));
      const isSure = given.every(({ role, on, counts }) => on !== bad && isTrue(and([counts, this.#sound(role)])));
      return isSure ? [...new Set(given.map(({ on }) => `${name} of ${printed(on as Value)}`))] : [];
    });
  }

  /** Whether the person holds a role as such, or is in a group, for certain. */
  isIn(name: string): boolean {
    return this.asks() && isTrue(this.#member(name));
  }

  /** Whether the person holds, by what is stored, two roles that exclude each other. */
  conflicts(): boolean {
    const declared: Json = this.#world.document["roles"] ?? {};
    return (
      this.asks() &&
      Object.keys(declared).some((one) =>
        listed(declared[one].exclusive).some((other) => this.#mayBeStored(one) && this.#mayBeStored(other)),
      )
    );
  }

  /** Whether it cannot be excluded that it is held by what is stored, whatever excludes it; a scoped role on any record. */
  #mayBeStored(name: string): boolean {
    const isScoped = this.#world.document["roles"]?.[name]?.scope !== undefined;
    if (!isScoped) return !isFalse(this.#member(name, "as stored"));
    return this.#given().some(({ role, counts }) => this.#includes(role).includes(name) && !isFalse(counts));
  }

  /** What a role brings does not count for certain where something that it brings is excluded by what is held. */
  #sound(role: string): Truth {
    const roles: Json = this.#world.document["roles"] ?? {};
    const excludes = (one: string, other: string) => listed(roles[one]?.exclusive).includes(other);
    // Whoever acts for somebody holds their own, too.
    const holders: readonly Naive[] = this.#actor === undefined ? [this] : [this, this.#actor];
    const mayBeHeld = (other: string) => holders.some((one) => one.#mayBeStored(other));
    const isExcluded = this.#includes(role).some((one) =>
      Object.keys(roles).some(
        (other) => (excludes(one, other) || excludes(other, one)) && this.#mayBeStored(one) && mayBeHeld(other),
      ),
    );
    const isWithheld = this.#includes(role).some((one) => this.#withheld().includes(one));
    return isExcluded || isWithheld ? anything : T;
  }

  /** Whether the person holds a role or is in a group. */
  #member(name: string, how: "checked" | "as stored" = "checked"): Truth {
    const sound = (role: string) => (how === "checked" ? this.#sound(role) : T);
    const [first = "", , ...line] = name.split(" ");
    if (line.length > 0) {
      const direction = line.at(-1) === "below" ? "above" : "below";
      const levels = line.length > 1 ? Number(line[0]) : Number.POSITIVE_INFINITY;
      return or([this.#member(first, how), this.#along(direction, levels, (key) => this.#other(key, first))]);
    }
    const group = this.#world.document["groups"]?.[name];
    if (group !== undefined) {
      const any = (members: unknown) => or(listed(members).map((one) => this.#memberOf(one, how)));
      const named = this.#given().filter(({ role }) => role === name);
      return and([
        or([any(group.members), ...named.map(({ counts }) => counts)]),
        this.#ofPerson(group.where),
        not(any(group.without)),
      ]);
    }
    const brings = (role: string) => this.#includes(role).includes(name);
    const given = this.#given().filter(({ role, on }) => on === undefined && brings(role));
    const groups = Object.entries<Json>(this.#world.document["groups"] ?? {});
    const carried = groups.flatMap(([carrier, one]) =>
      listed(one["roles"])
        .filter(brings)
        .map((role: string) => and([this.#member(carrier, how), sound(role)])),
    );
    return or([...given.map(({ role, counts }) => and([counts, sound(role)])), ...carried]);
  }

  // biome-ignore lint/suspicious/noExplicitAny: the document as it was written
  #memberOf(member: any, how: "checked" | "as stored"): Truth {
    if (this.#person === undefined) return F;
    if (typeof member === "string") {
      return member.startsWith("person ") ? of(this.#myKey === member.slice(7)) : this.#member(member, how);
    }
    if (member.where !== undefined) return this.#ofPerson(member.where);
    if (member.below !== undefined && member.levels === undefined)
      return or([of(this.#myKey === member.below), this.#above(member.below, this.#myKey)]);
    const [key, direction] = member.below === undefined ? [member.above, "below"] : [member.below, "above"];
    const along = this.#along(direction, member.levels ?? Number.POSITIVE_INFINITY, (one) => of(one === key));
    return or([of(this.#myKey === key), along]);
  }

  #ofPerson(condition: unknown): Truth {
    const person = this.#person;
    return person === undefined ? F : this.#condition(this.#people["table"], person, condition);
  }

  /** Whether `higher` is above `person` in the manager line. */
  #above(higher: Value, person: Value): Truth {
    if (person === null || higher === null) return F;
    if (person === bad || higher === bad) return anything;
    const { table, manager } = this.#people;
    const passed: Value[] = [];
    let at: Value = person;
    while (!passed.includes(at)) {
      passed.push(at);
      const row = this.find(table, at);
      if (row === undefined) return F;
      at = this.#field(table, row, manager);
      if (at === null) return F;
      if (at === bad) return anything;
      if (at === higher) return of(!passed.includes(at));
    }
    return F;
  }

  #entry(table: string, row: Row, entry: string): Truth {
    if (entry === "anyone") return T;
    if (entry === "signed-in") return of(this.#person !== undefined);
    if (this.#person === undefined) return F;
    if (entry.startsWith("setting "))
      return of(this.#isSet(table, row, entry.split(" ")[1] ?? "", entry.split(" ")[2] ?? ""));
    if (entry === "owner") return this.#leadsTo(this.#owners(table, row), [this.#myKey]);
    const [first = "", second = "", ...rest] = entry.split(" ");
    if (first === "above") {
      const whose = second === "owner" ? this.#owners(table, row) : this.#follow(table, row, second.split("."));
      if (whose === null) return F;
      if (whose === bad) return anything;
      return or((Array.isArray(whose) ? whose : [whose]).map((one) => this.#above(this.#myKey, one)));
    }
    if (first === "person") return of(this.#myKey === second);
    if (second !== "of") return this.#member(entry);
    const held = this.#given()
      .filter(({ role, on }) => on !== undefined && this.#includes(role).includes(first))
      .map(({ role, on, counts }) => ({ on: isTrue(and([counts, this.#sound(role)])) ? on : bad }));
    const path = rest.join(" ");
    const record =
      path === "this" ? this.#address(table, row, this.#keyOf(table)) : this.#follow(table, row, path.split("."));
    if (held.length === 0) return F;
    return this.#leadsTo(record, held.some(({ on }) => on === bad) ? bad : held.map(({ on }) => on as Value));
  }

  #owners(table: string, row: Row): Value {
    const owner: string | undefined = this.#table(table)["owner"];
    return owner === undefined ? null : this.#follow(table, row, owner.split("."));
  }

  #leadsTo(value: Value, wanted: readonly Value[] | typeof bad): Truth {
    if (value === null || (Array.isArray(value) && value.length === 0)) return F;
    if (value === bad || wanted === bad) return anything;
    const values = Array.isArray(value) ? value : [value];
    return of(values.some((one) => wanted.some((other) => printed(one) === printed(other))));
  }

  // Conditions

  #condition(table: string, row: Row, written: unknown, outer?: { table: string; row: Row }): Truth {
    if (written === undefined || written === true || written === "any") return T;
    if (written === false) return F;
    if (typeof written === "object") return this.#isKnownTo(table, row, (written as Json)["known"]);
    return this.#test(table, row, parse(written as string), outer ?? { table, row });
  }

  #test(table: string, row: Row, node: Condition, outer: { table: string; row: Row }): Truth {
    const again = (one: Condition) => this.#test(table, row, one, outer);
    const value = (one: OperandSyntax) => this.#operand(table, row, one, outer);
    const flip = (truth: Truth, negated: boolean) => (negated ? not(truth) : truth);
    switch (node.kind) {
      case "truth":
        return of(node.value);
      case "and":
        return and(node.terms.map(again));
      case "or":
        return or(node.terms.map(again));
      case "not":
        return not(again(node.term));
      case "compare":
        return compared(node.op, value(node.left), value(node.right));
      case "between": {
        const truth = and([
          compared(">=", value(node.operand), value(node.low)),
          compared("<=", value(node.operand), value(node.high)),
        ]);
        return flip(truth, node.negated);
      }
      case "in":
        return flip(or(node.items.map((item) => compared("=", value(node.operand), value(item)))), node.negated);
      case "in-list": {
        const one = value(node.operand);
        const list = value(node.list);
        if (one === null || list === null) return N;
        if (one === bad || list === bad) return anything;
        return flip(of((list as readonly Value[]).includes(one)), node.negated);
      }
      case "match": {
        const [text, pattern] = [value(node.operand), value(node.pattern)];
        if (text === null || pattern === null) return N;
        if (text === bad || pattern === bad) return anything;
        return flip(of(matches(node.how, text as string, pattern as string)), node.negated);
      }
      case "is-null": {
        const one = value(node.operand);
        return one === bad ? F | T : flip(of(one === null), node.negated);
      }
      case "exists": {
        const truths = (this.#world.data[node.table] ?? []).map((one) =>
          this.#test(node.table, one, node.condition, outer),
        );
        if (truths.some(isTrue)) return T;
        return truths.some((truth) => truth & T) ? anything : F;
      }
      case "may":
        return this.#mayTruth(table, row, node, outer);
      case "member":
        return flip(this.#memberTruth(table, row, node, outer), node.negated);
      default:
        return node satisfies never;
    }
  }

  #operand(table: string, row: Row, node: OperandSyntax, outer: { table: string; row: Row }): Value {
    switch (node.kind) {
      case "text":
      case "boolean":
      case "date":
        return node.value;
      case "number":
        return thousandths(node.digits);
      case "null":
        return null;
      case "timestamp":
        return microseconds(node.value);
      case "today":
        return this.#world.now.slice(0, 10);
      case "shift": {
        // Shifts add up; what then leaves the calendar is null.
        let minutes = 0n;
        let inner: OperandSyntax = node;
        for (; inner.kind === "shift"; inner = inner.operand) {
          minutes += BigInt(inner.amount) * { day: 1440n, hour: 60n, minute: 1n }[inner.unit];
        }
        const value = this.#operand(table, row, inner, outer);
        if (value === null || value === bad) return value;
        if (typeof value === "bigint") {
          const moved = value + minutes * 60_000_000n;
          const [first, end] = ["0001-01-01T00:00:00Z", "9999-12-31T23:59:59.999999Z"].map(microseconds);
          return moved < (first as bigint) || moved > (end as bigint) ? null : moved;
        }
        const moved = new Date(Date.parse(`${value as string}T00:00:00Z`) + Number(minutes) * 60_000);
        const isOut = Number.isNaN(moved.getTime()) || moved.getUTCFullYear() < 1 || moved.getUTCFullYear() > 9999;
        return isOut ? null : moved.toISOString().slice(0, 10);
      }
      case "path":
        return this.#path(table, row, node, outer);
      default:
        return node satisfies never;
    }
  }

  #path(table: string, row: Row, { root, names }: PathSyntax, outer: { table: string; row: Row }): Value {
    switch (root) {
      case "record":
        return this.#follow(table, row, names);
      case "request": {
        const [name = ""] = names;
        if (name === "now") return this.#now;
        return this.#read(
          { type: this.#world.document["request"][name], flags: {} },
          this.#world.request?.[name] ?? null,
        );
      }
      case "me": {
        const people = this.#people["table"];
        if (names.length === 0) return this.#myKey;
        return this.#person === undefined ? null : this.#follow(people, this.#person, names);
      }
      case "owner":
        return this.#follow(table, row, this.#ownerPath(table, names));
      case "this":
        if (names.length === 0) return this.#address(outer.table, outer.row, this.#keyOf(outer.table));
        return this.#follow(outer.table, outer.row, names);
      default:
        return root satisfies never;
    }
  }

  /** From the record to its owner and on. Where the owner is a person's own key, the record is the person. */
  #ownerPath(table: string, names: readonly string[]): string[] {
    const owner = (this.#table(table)["owner"] as string).split(".");
    const isOwnKey = this.shape(table, owner[owner.length - 1] as string).target === undefined;
    return [...(isOwnKey && names.length > 0 ? owner.slice(0, -1) : owner), ...names];
  }

  #memberTruth(
    table: string,
    row: Row,
    { path, name, on }: Extract<Condition, { kind: "member" }>,
    outer: { table: string; row: Row },
  ): Truth {
    const isMe = path.root === "me" && path.names.length === 0;
    if (isMe && on === undefined) return this.#person === undefined ? F : this.#member(name);
    if (isMe && on !== undefined) return this.#entry(table, row, `${name} of ${on.names.join(".")}`);
    const persons = this.#path(table, row, path, outer);
    const record = on === undefined ? undefined : this.#path(table, row, on, outer);
    if (persons === null || record === null) return N;
    if (persons === bad || record === bad) return anything;
    if (Array.isArray(persons)) {
      const there = persons.filter((one) => this.find(this.#people["table"], one) !== undefined);
      return or(there.map((one) => this.#other(one, name)));
    }
    if (record === undefined) return this.#other(persons, name);
    const held = this.#as(persons)
      .#given()
      .filter((one) => one.on !== undefined && this.#includes(one.role).includes(name))
      .filter((one) => printed(one.on as Value) === printed(record))
      .map((one) => and([one.counts, this.#as(persons).#sound(one.role)]));
    return and([or(held), this.#activity(persons)]);
  }

  /** Whether somebody else holds a role or is in a group, by what is stored. */
  #other(key: Value, name: string): Truth {
    return this.find(this.#people["table"], key) === undefined
      ? N
      : and([this.#as(key).#member(name), this.#activity(key)]);
  }

  /** Of somebody who is not active nothing is known but what they are not. */
  #activity(key: Value): Truth {
    const { table, active } = this.#people;
    const person = this.find(table, key);
    if (active === undefined || person === undefined) return active === undefined ? T : N;
    const value = this.#field(table, person, active);
    return value === bad ? anything : value === true ? T : N;
  }

  #as(key: Value): Naive {
    const id = printed(key);
    const known = this.#others.get(id) ?? new Naive({ ...this.#world, me: id, actedBy: undefined });
    this.#others.set(id, known);
    return known;
  }

  /** Somebody above (below) the person is one of them, at most so many levels away. */
  #along(direction: string, levels: number, isOne: (key: Value) => Truth): Truth {
    const { table, manager } = this.#people;
    const passed: Value[] = [this.#myKey];
    const truths: Truth[] = [];
    const staff = this.#world.data[table] ?? [];
    const managerOf = (row: Row) => this.#field(table, row, manager);
    let step: Value[] = [this.#myKey];
    for (let level = 0; level < levels && step.length > 0; level++) {
      const next = step.flatMap((key): Value[] => {
        const row = this.find(table, key);
        if (direction === "above") return row === undefined ? [] : [managerOf(row)];
        return staff.flatMap((one) => {
          const above = managerOf(one);
          return above === bad
            ? [bad]
            : above === key
              ? [this.#field(table, one, this.#keyOf(table)[0] as string)]
              : [];
        });
      });
      step = [];
      for (const key of next) {
        if (key === bad) truths.push(anything);
        if (key === null || key === bad || passed.includes(key) || this.find(table, key) === undefined) continue;
        passed.push(key);
        step.push(key);
        truths.push(isOne(key));
      }
    }
    return or(truths);
  }

  #mayTruth(
    table: string,
    row: Row,
    { action, path }: Extract<Condition, { kind: "may" }>,
    outer: { table: string; row: Row },
  ): Truth {
    const key = this.#path(table, row, path, outer);
    if (key === null) return N;
    if (key === bad) return anything;
    let at = path.root === "me" ? this.#people["table"] : path.root === "this" ? outer.table : table;
    const names = path.root === "owner" ? this.#ownerPath(table, path.names) : path.names;
    // A person's owner is the person.
    for (const name of names) at = this.shape(at, name).target ?? at;
    const record = this.find(at, key);
    return record === undefined ? N : this.#answer(at, action, record);
  }

  /** The answer to an action on a record as a truth: bad data may leave it open. */
  #answer(table: string, action: string, row: Row): Truth {
    if (!this.asks()) return F;
    const own = this.fieldsOf(table).filter((name) => {
      const shape = this.shape(table, name);
      return shape.by === undefined && shape.lookup === undefined;
    });
    const any = (test: (field: string) => Truth) => {
      const truths = own.map(test);
      return truths.some(isTrue) ? T : truths.some((truth) => truth & T) ? F | T : F;
    };
    const decided = (one: string, field: string | undefined, parts = [one]) => {
      const covering = parts.flatMap((part) => this.#covering(table, part, field, row));
      const isLate = (rule: Rule) => rule.effect !== "permit" && rule.body["becomes"] !== undefined;
      const changes = one === "edit" || one === "bulk";
      const applying = covering
        .filter((rule) => !changes || !isLate(rule))
        .map((rule) => ({ rule, truth: this.#applies(table, row, rule) }));
      const free = applying.filter(({ rule }) => isBlock(rule)).map(({ truth }) => not(truth));
      const permits = applying.filter(({ rule }) => rule.effect === "permit").map(({ truth }) => truth);
      const truth = and([...free, or(permits)]);
      return isTrue(truth) ? T : truth & T ? F | T : F;
    };
    const seen = (one: "list" | "view") =>
      any((field) => decided(one, field, one === "list" ? ["list", "view"] : ["view"]));
    switch (action) {
      case "list":
      case "view":
        return seen(action);
      case "export":
        return any((field) => {
          const view = this.#keyOf(table).includes(field) ? seen("view") : decided("view", field);
          return and([view, decided("export", field)]);
        });
      case "edit":
        return and([or([seen("list"), seen("view")]), any((field) => decided("edit", field))]);
      case "bulk":
        return and([
          or([seen("list"), seen("view")]),
          any((field) => and([decided("edit", field), decided("bulk", field)])),
        ]);
      default:
        return and([or([seen("list"), seen("view")]), decided(action, undefined)]);
    }
  }

  // Rules

  #rules(table: string): readonly Rule[] {
    const known = this.#rulesOf.get(table) ?? this.#readRules(table);
    this.#rulesOf.set(table, known);
    return known;
  }

  /** The rules of a table that are in force, those of every table among them. */
  #readRules(table: string): Rule[] {
    const every = Object.entries<Json>(this.#world.document["tables"]["*"]?.rules ?? {})
      .filter(([, body]) => !listed(body["skip"]).includes(table))
      .map(([name, body]) => [`*/${name}`, body] as const);
    const own = Object.entries<Json>(this.#table(table)["rules"] ?? {}).map(
      ([name, body]) => [`${table}/${name}`, body] as const,
    );
    const at = (instant: string) => microseconds(instant.length === 10 ? `${instant}T00:00:00Z` : instant);
    const declared = [...own, ...every]
      .filter(([, body]) => body["from"] === undefined || at(body["from"]) <= this.#now)
      .filter(([, body]) => body["until"] === undefined || this.#now < at(body["until"]))
      .map(([address, body]) => {
        const effect = (["permit", "deny", "reserve", "confirm"] as const).find((name) => body[name] !== undefined);
        return { address, effect: effect ?? "deny", body };
      });
    return [...declared, ...this.#protections(table), ...this.#settingRules(table, declared)];
  }

  /** What people protected: each is a rule on editing its cells, for whom it does not name. */
  #protections(table: string): Rule[] {
    if (this.#table(table)["grid"]?.protections !== true) return [];
    return (this.#world.data["portier_protections"] ?? [])
      .filter((row) => row["table"] === table && isTrue(this.#runs(row, "from", "until")))
      .map((row): Rule => {
        const effect = row["effect"] as "reserve" | "confirm";
        const whom = effect === "reserve" ? { to: row["to"] } : { to: ["anyone"], except: row["to"] };
        const cells = { cells: row["ranges"], except: row["except"] ?? [] };
        return { address: `${table}/protection.${row["id"]}`, effect, body: { ...whom, [effect]: { edit: cells } } };
      });
  }

  /** The records that set something of this person in a table now, or perhaps now. */
  #set(table: string, field?: string): Row[] {
    const { settings } = this.#people;
    if (settings === undefined || this.#person === undefined) return [];
    return (this.#world.data[settings.table] ?? []).filter(
      (row) =>
        this.#field(settings.table, row, settings.person) === this.#myKey &&
        row[settings.on] === table &&
        (field === undefined || row[settings.field] === field) &&
        row[settings.level] !== null &&
        !isFalse(this.#runs(row, settings.from, settings.until)),
    );
  }

  #settingRules(table: string, declared: readonly Rule[]): Rule[] {
    const { settings } = this.#people;
    const fields = new Set(this.#set(table).map((row) => row[settings.field] as string));
    return [...fields].flatMap((field): Rule[] => {
      const rule = (effect: "permit" | "deny", what: string, actions: readonly string[], where: unknown): Rule => ({
        address: `setting ${what} ${field}`,
        effect,
        body: {
          to: [`setting ${what} ${field}`],
          where,
          [effect]: Object.fromEntries(actions.map((one) => [one, [field]])),
        },
      });
      const changes = ["create", "import", "edit", "bulk"];
      const mayOpen = (level: string) => listed(settings.adds[table]?.[level]).includes(field);
      const known = { known: declared };
      return [
        rule("deny", "none", ["list", "view", "export", ...changes], true),
        rule("deny", "view", changes, true),
        ...(mayOpen("view") || mayOpen("edit") ? [rule("permit", "opens", ["list", "view"], known)] : []),
        ...(mayOpen("edit") ? [rule("permit", "edit", ["list", "view", "edit"], known)] : []),
      ];
    });
  }

  /** What is set on the record itself goes before what is set on all. */
  #isSet(table: string, row: Row, what: string, field: string): boolean {
    const { settings } = this.#people;
    const address = this.#address(table, row, this.#keyOf(table));
    const all = this.#set(table, field);
    const own = all.filter((one) => one[settings.record] !== null && one[settings.record] === address);
    const isSure = (one: Row) => isTrue(this.#runs(one, settings.from, settings.until));
    const whole = all.filter((one) => one[settings.record] === null);
    if (what === "none" || what === "view") {
      const takes = (rows: readonly Row[]) => rows.some((one) => one[settings.level] === what);
      return takes(own) || (!own.some(isSure) && takes(whole));
    }
    const levels = what === "opens" ? ["view", "edit"] : ["edit"];
    const gives = (rows: readonly Row[]) =>
      rows.some((one) => levels.includes(one[settings.level] as string) && isSure(one));
    return gives(own.length > 0 ? own : whole);
  }

  /** Whether a rule permits to list or view a field of a record's own; cells aside. */
  #isKnownTo(table: string, row: Row, rules: readonly Rule[]): Truth {
    const shows = (rule: Rule) =>
      rule.effect === "permit" &&
      ["list", "view"].some((action) => {
        const extent = rule.body["permit"][action];
        if (extent === undefined || (typeof extent === "object" && !Array.isArray(extent))) return false;
        const isOwn = (field: string) => {
          const { lookup, by } = this.shape(table, field);
          return lookup === undefined && by === undefined;
        };
        return this.fieldsOf(table).some((one) => isOwn(one) && this.#coversField(table, rule, action, extent, one));
      });
    return or(rules.filter(shows).map((rule) => this.#applies(table, row, rule)));
  }

  /** The rules that cover a field (or, without one, the act) for an action; of cells those that hold the record's row. */
  #covering(table: string, action: string, field: string | undefined, row: Row): Rule[] {
    return this.#rules(table).filter((rule) => {
      const extent = rule.body[rule.effect][action];
      if (extent === undefined) return false;
      if (typeof extent === "object" && !Array.isArray(extent)) {
        if (field === undefined) {
          const isAct = (action === "create" || action === "import") && rule.effect === "permit";
          const place = isAct ? this.#position(table, row) : undefined;
          return place !== undefined && this.fieldsOf(table).some((one) => this.#inCells(table, extent, one, place));
        }
        return this.#coversCell(table, rule, action, extent, field, row);
      }
      return this.#coversField(table, rule, action, extent, field);
    });
  }

  #coversField(table: string, rule: Rule, action: string, extent: unknown, field: string | undefined): boolean {
    const items: string[] = listed(extent === true ? "yes" : extent);
    const isNew = action === "create" || action === "import";
    const out = items.filter((item) => item.startsWith("-")).map((item) => item.slice(1).trim());
    if (field === undefined) {
      if (items.includes("yes")) return true;
      return isNew && (rule.effect === "permit" || (items.includes("all") && out.length === 0));
    }
    if (out.includes(field)) return false;
    const writes = ["create", "import", "edit", "bulk"].includes(action);
    const { flags } = this.shape(table, field);
    const isComputed = writes && flags["computed"] === true;
    if (items.includes(field)) return true;
    if (items.some((item) => item.startsWith("tag ") && listed(flags["tags"]).includes(item.slice(4)))) {
      return rule.effect !== "permit" || !isComputed;
    }
    const names = this.fieldsOf(table);
    const swept = items.some((item) => {
      if (item === "all") return true;
      if (!item.includes("..")) return false;
      const [from = "", to = ""] = item.split("..");
      return names.indexOf(from) <= names.indexOf(field) && names.indexOf(field) <= names.indexOf(to);
    });
    return swept && !(rule.effect === "permit" && this.#mustBeNamed(table, action, field));
  }

  #mustBeNamed(table: string, action: string, field: string): boolean {
    const { flags } = this.shape(table, field);
    if (flags["sensitive"] === true) return true;
    if (!["create", "import", "edit", "bulk"].includes(action)) return false;
    const isOwner = (this.#table(table)["owner"] as string | undefined)?.split(".")[0] === field;
    const isKey = (action === "edit" || action === "bulk") && this.#keyOf(table).includes(field);
    return flags["computed"] === true || isOwner || isKey;
  }

  // Grids

  #column(table: string, field: string): number {
    const { position, columns } = this.#table(table)["grid"];
    const names: string[] =
      columns ?? this.fieldsOf(table).filter((name) => name !== position && !this.#keyOf(table).includes(name));
    return names.indexOf(field) + 1;
  }

  #position(table: string, row: Row): number | undefined {
    const value = this.#field(table, row, this.#table(table)["grid"].position);
    // Rows are counted from 1.
    return typeof value === "bigint" && value >= 1000n ? Number(value / 1000n) : undefined;
  }

  #ranges(table: string, written: unknown): Range[] {
    return listed(written).map((text: string) => rangeOf(this.#table(table)["ranges"]?.[text] ?? text));
  }

  #inCells(table: string, extent: Json, field: string, place: number): boolean {
    const column = this.#column(table, field);
    const has = (range: Range) =>
      range.left <= column && column <= range.right && range.top <= place && place <= range.bottom;
    return this.#ranges(table, extent["cells"]).some(has) && !this.#ranges(table, extent["except"]).some(has);
  }

  #coversCell(table: string, rule: Rule, action: string, extent: Json, field: string, row: Row): boolean {
    const column = this.#column(table, field);
    const touches = this.#ranges(table, extent["cells"]).some((range) => range.left <= column && column <= range.right);
    if (column === 0 || !touches) return false;
    if (rule.effect === "permit" && this.#mustBeNamed(table, action, field)) return false;
    const place = this.#position(table, row);
    if (place !== undefined) return this.#inCells(table, extent, field, place);
    if (rule.effect === "permit") return false;
    // A column that is excepted altogether is not held, wherever the row may be.
    return Array.from({ length: 40 }, (_, index) => index + 1).some((at) => this.#inCells(table, extent, field, at));
  }

  /** Whether a rule on editing cells holds a place as a row: some bounded cell of that row is its own. */
  #holdsRow(table: string, extent: Json, place: number | undefined): boolean {
    const bounded = listed(extent["cells"]).filter(
      (text: string) => rangeOf(this.#table(table)["ranges"]?.[text] ?? text).bottom !== Number.POSITIVE_INFINITY,
    );
    const holds = (at: number) =>
      this.fieldsOf(table).some(
        (field) => this.#column(table, field) > 0 && this.#inCells(table, { ...extent, cells: bounded }, field, at),
      );
    if (place !== undefined) return holds(place);
    return Array.from({ length: 40 }, (_, index) => index + 1).some(holds);
  }

  #cellRules(table: string, action: "edit" | "bulk"): { rule: Rule; extent: Json }[] {
    if (this.#table(table)["grid"] === undefined) return [];
    return this.#rules(table).flatMap((rule) => {
      const extent = rule.body[rule.effect][action];
      const isCells = extent !== undefined && typeof extent === "object" && !Array.isArray(extent);
      return isCells && rule.effect !== "permit" ? [{ rule, extent }] : [];
    });
  }

  // Judging

  #who(table: string, row: Row, rule: Rule): Truth {
    const to = listed(rule.body["to"] ?? (rule.effect === "deny" || rule.effect === "confirm" ? "anyone" : []));
    const met = and([
      or(to.map((entry) => this.#entry(table, row, entry))),
      not(or(listed(rule.body["except"]).map((entry) => this.#entry(table, row, entry)))),
    ]);
    return rule.effect === "reserve" ? not(met) : met;
  }

  #applies(table: string, row: Row, rule: Rule): Truth {
    return and([this.#who(table, row, rule), this.#condition(table, row, rule.body["where"])]);
  }

  #judge(rules: readonly Rule[], truth: (rule: Rule) => Truth): { permitted: boolean; confirm: string[] } {
    const blocked = rules.some((rule) => isBlock(rule) && !isFalse(truth(rule)));
    const permitted = !blocked && rules.some((rule) => rule.effect === "permit" && isTrue(truth(rule)));
    const confirm = rules.filter((rule) => rule.effect === "confirm" && !isFalse(truth(rule)));
    return { permitted, confirm: permitted ? confirm.map(({ address }) => address) : [] };
  }

  // Questions about a record

  #gate(table: string, action: string, field: string | undefined, row: Row): boolean {
    const parts = action === "list" ? ["list", "view"] : [action];
    const rules = parts.flatMap((part) => this.#covering(table, part, field, row));
    return this.#judge(rules, (rule) => this.#applies(table, row, rule)).permitted;
  }

  /** Asked over and over of the same record, so the answer is kept; it depends on nothing else. */
  seesRecord(table: string, action: string, row: Row): boolean {
    const answers = this.#recordsSeen.get(row) ?? new Map<string, boolean>();
    this.#recordsSeen.set(row, answers);
    const question = `${action} ${table}`;
    const known = answers.get(question) ?? this.#seesRecord(table, action, row);
    answers.set(question, known);
    return known;
  }

  #seesRecord(table: string, action: string, row: Row): boolean {
    if (!this.asks()) return false;
    return this.fieldsOf(table).some((field) => {
      const { lookup, by } = this.shape(table, field);
      if (lookup !== undefined || by !== undefined) return false;
      if (action !== "export") return this.#gate(table, action, field, row);
      const view = this.#keyOf(table).includes(field)
        ? this.seesRecord(table, "view", row)
        : this.#gate(table, "view", field, row);
      return view && this.#gate(table, "export", field, row);
    });
  }

  sees(table: string, action: string, field: string, row: Row): boolean {
    if (!this.asks()) return false;
    if (this.#keyOf(table).includes(field)) return this.seesRecord(table, action, row);
    if (action === "export" && !this.sees(table, "view", field, row)) return false;
    const { lookup, by } = this.shape(table, field);
    if (!this.#gate(table, action, field, row)) return false;
    if (by !== undefined && !by.every((part) => this.sees(table, action, part, row))) return false;
    if (lookup === undefined) return true;
    // A lookup alone makes no record known, or exported.
    if (!this.seesRecord(table, action, row)) return false;
    const key = this.#field(table, row, lookup.through);
    if (key === null) return true;
    if (key === bad) return false;
    const target = this.shape(table, lookup.through).target as string;
    const source = this.find(target, key);
    return source !== undefined && this.sees(target, action, lookup.field, source);
  }

  knows(table: string, row: Row): boolean {
    return this.seesRecord(table, "list", row) || this.seesRecord(table, "view", row);
  }

  mask(table: string, action: string, row: Row): Row | undefined {
    if (!this.seesRecord(table, action, row)) return undefined;
    const shown = this.fieldsOf(table).filter(
      (field) => this.sees(table, action, field, row) && this.#field(table, row, field) !== bad,
    );
    return Object.fromEntries(shown.map((field) => [field, this.#shown(table, row, field)]));
  }

  #shown(table: string, row: Row, field: string): unknown {
    const { lookup, by } = this.shape(table, field);
    if (by !== undefined) return this.#address(table, row, by);
    if (lookup === undefined) return ownForm(this.shape(table, field), row[field]);
    const key = this.#field(table, row, lookup.through);
    const target = this.shape(table, lookup.through).target as string;
    const source = key === null || key === bad ? undefined : this.find(target, key);
    return source === undefined ? null : this.#shown(target, source, lookup.field);
  }

  /** Whether a change of a field may be tried, asked without values. */
  mayTry(table: string, action: "edit" | "bulk" | "protect", field: string, row: Row): boolean {
    if (!this.asks() || !this.knows(table, row)) return false;
    const isLate = (rule: Rule) => rule.effect !== "permit" && rule.body["becomes"] !== undefined;
    return (action === "bulk" ? (["edit", "bulk"] as const) : [action]).every((part) => {
      const rules = this.#covering(table, part, field, row).filter((rule) => !isLate(rule));
      return this.#judge(rules, (rule) => this.#applies(table, row, rule)).permitted;
    });
  }

  /** Deleting, and custom actions. */
  mayAct(table: string, action: string, row: Row): boolean {
    return this.act(table, action, row).answer !== "not-found" && this.#act(table, action, row).permitted;
  }

  act(table: string, action: string, row: Row): Outcome {
    if (!this.asks() || !this.knows(table, row)) return { answer: "not-found", dropped: "" };
    const { permitted, confirm } = this.#act(table, action, row);
    return { answer: permitted ? asked(confirm) : "act", dropped: "" };
  }

  #act(table: string, action: string, row: Row) {
    const place = this.#table(table)["grid"] === undefined ? undefined : this.#position(table, row);
    const held = action === "delete" ? this.#cellRules(table, "edit") : [];
    const rules = [
      ...this.#covering(table, action, undefined, row),
      ...held.filter(({ extent }) => this.#holdsRow(table, extent, place)).map(({ rule }) => rule),
    ];
    return this.#judge(rules, (rule) => this.#applies(table, row, rule));
  }

  // Changes

  #same(table: string, field: string, a: Value, b: unknown): boolean {
    if (b === undefined) return false;
    const y = this.#read(this.shape(table, field), b);
    return a !== bad && y !== bad && printed(a) === printed(y);
  }

  #isHidden(table: string, field: string, row: Row): boolean {
    return !this.sees(table, "list", field, row) && !this.sees(table, "view", field, row);
  }

  #isLost(target: string, key: Value): boolean {
    if (target === this.#people["table"] && key === this.#myKey) return false;
    const found = this.find(target, key);
    return found === undefined || !this.knows(target, found);
  }

  #refersWrongly(
    table: string,
    changed: readonly string[],
    field: string,
    before: Row | undefined,
    after: Row,
  ): boolean {
    const made = this.fieldsOf(table).some((name) => {
      const { by, target } = this.shape(table, name);
      if (by?.includes(field) !== true) return false;
      const key = this.#address(table, after, by);
      return key !== null && key !== bad && changed.includes(field) && this.#isLost(target as string, key);
    });
    const shape = this.shape(table, field);
    const value = this.#read(shape, after[field] ?? null);
    if (made) return true;
    if (value === null || value === bad) return false;
    if (shape.target !== undefined) return this.#isLost(shape.target, value);
    const target = shape.element?.target;
    if (target === undefined) return false;
    const stored =
      before === undefined || this.#isHidden(table, field, before) ? [] : this.#field(table, before, field);
    const known = Array.isArray(stored) ? stored : [];
    return (value as readonly Value[]).some((one) => !known.includes(one) && this.#isLost(target, one));
  }

  #wrongValue(table: string, field: string, record: Row): boolean {
    const { flags, by, lookup } = this.shape(table, field);
    if (by !== undefined || lookup !== undefined) return false;
    const value = record[field] ?? null;
    if (value !== null) {
      // JSON writes a nul and half a pair of surrogates by their numbers.
      const isUnstorable = /\\u(0000|d[89a-f])/.test(
        JSON.stringify(value, (_, one) => (typeof one === "bigint" ? 0 : one)) ?? "",
      );
      return isUnstorable || this.#read(this.shape(table, field), value) === bad;
    }
    if (flags["computed"] === true || flags["generated"] === true) return false;
    return flags["optional"] !== true || this.#keyOf(table).includes(field);
  }

  #isTaken(table: string, record: Row): boolean {
    const key = this.#address(table, record, this.#keyOf(table));
    return key !== null && key !== bad && this.find(table, key) !== undefined;
  }

  edit(
    table: string,
    before: Row,
    values: Row,
    mode: "strict" | "lenient",
    actions: readonly ("edit" | "bulk")[],
  ): Outcome {
    if (!this.asks() || !this.knows(table, before)) return { answer: "not-found", dropped: "" };
    const names = this.fieldsOf(table);
    const changed = Object.keys(values).filter(
      (field) =>
        names.includes(field) &&
        (this.#isHidden(table, field, before) ||
          !this.#same(table, field, this.#field(table, before, field), values[field])),
    );
    const unknown = Object.keys(values).filter((field) => !names.includes(field));
    const judge = (fields: readonly string[], after: Row) => {
      const verdicts = fields.map((field) => {
        const parts = actions.map((action) => this.#judgeChange(table, action, field, before, after));
        const wrong =
          parts.some(({ permitted }) => !permitted) || this.#refersWrongly(table, fields, field, before, after);
        return { field, wrong, confirm: parts.flatMap(({ confirm }) => confirm) };
      });
      return { verdicts, act: true, confirm: [] };
    };
    const apply = (fields: readonly string[]) => {
      const after: Record<string, unknown> = { ...before };
      for (const field of fields) after[field] = values[field] ?? null;
      return after;
    };
    const isValid = (fields: readonly string[], after: Row) => {
      if (fields.some((field) => this.#wrongValue(table, field, after))) return false;
      return !fields.some((field) => this.#keyOf(table).includes(field)) || !this.#isTaken(table, after);
    };
    return this.#resolve(changed, unknown, mode, apply, judge, isValid);
  }

  #judgeChange(table: string, action: "edit" | "bulk", field: string, before: Row, after: Row) {
    const grid = this.#table(table)["grid"];
    const [from, to] = [before, after].map((row) => (grid === undefined ? undefined : this.#position(table, row)));
    const isCells = (rule: Rule) => {
      const extent = rule.body[rule.effect][action];
      return typeof extent === "object" && !Array.isArray(extent);
    };
    const addresses = (row: Row) => this.#covering(table, action, field, row).map(({ address }) => address);
    const first = addresses(before);
    const second = addresses(after);
    const standard = (rule: Rule): Truth => {
      const { where, becomes, alsoAfter } = rule.body;
      const held = this.#condition(table, before, where);
      const who = this.#who(table, before, rule);
      if (alsoAfter === true) return and([who, or([held, this.#condition(table, after, where)])]);
      const later = becomes ?? (rule.effect === "permit" ? where : undefined);
      return and([who, held, this.#condition(table, after, later)]);
    };
    const wayIn = (rule: Rule): Truth =>
      and([
        this.#who(table, before, rule),
        this.#condition(table, after, rule.body["where"]),
        this.#condition(table, after, rule.body["becomes"]),
      ]);
    const rules: { rule: Rule; truth: () => Truth }[] = [];
    for (const rule of this.#rules(table)) {
      const [starts, ends] = [first.includes(rule.address), second.includes(rule.address)];
      if (rule.effect === "permit") {
        if (starts && ends) rules.push({ rule, truth: () => standard(rule) });
        continue;
      }
      if (starts) rules.push({ rule, truth: () => standard(rule) });
      else if (ends && isCells(rule)) rules.push({ rule, truth: () => wayIn(rule) });
    }
    if (grid !== undefined && field === grid.position) {
      const each = this.#cellRules(table, action).flatMap(({ rule, extent }) =>
        listed(extent["cells"]).map((cells) => ({ rule, extent: { ...extent, cells: [cells] } })),
      );
      for (const { rule, extent } of each) {
        const [out, into] = [this.#holdsRow(table, extent, from), this.#holdsRow(table, extent, to)];
        const crosses = out !== into || from === undefined || to === undefined;
        if (!crosses) continue;
        if (out) rules.push({ rule, truth: () => standard(rule) });
        if (into) rules.push({ rule, truth: () => wayIn(rule) });
      }
    }
    const blocked = rules.some(({ rule, truth }) => isBlock(rule) && !isFalse(truth()));
    const permitted = !blocked && rules.some(({ rule, truth }) => rule.effect === "permit" && isTrue(truth()));
    const confirm = rules.filter(({ rule, truth }) => rule.effect === "confirm" && !isFalse(truth()));
    return { permitted, confirm: permitted ? confirm.map(({ rule }) => rule.address) : [] };
  }

  /** A default of a field of another type than text can be what the session knows. */
  #standardValue(written: unknown, isOther: boolean): unknown {
    if (typeof written !== "string") return written ?? null;
    if (written === "now" && isOther) return `${this.#world.now.slice(0, 19)}.000000Z`;
    if (written === "today" && isOther) return this.#world.now.slice(0, 10);
    if (written === "me" && isOther) return this.#person === undefined ? null : this.#myKey;
    if (!written.startsWith("me.")) return written;
    const known = this.#person?.[written.slice("me.".length)];
    if (known === undefined || known === null) return null;
    const shape = this.shape(this.#people["table"], written.slice("me.".length));
    const own = ownForm(shape, known);
    return this.#read(shape, own) === bad ? undefined : own;
  }

  standard(table: string): Record<string, unknown> {
    const record: Record<string, unknown> = {};
    const owner: string | undefined = this.#table(table)["owner"];
    const key = this.#person === undefined ? undefined : this.#person[this.#keyOf(this.#people["table"])[0] ?? ""];
    for (const field of this.fieldsOf(table)) {
      const { flags, target, element, by, lookup } = this.shape(table, field);
      if (by !== undefined || lookup !== undefined) continue;
      record[field] = this.#standardValue(flags["default"], target !== undefined || flags["type"] !== "text");
      if (owner !== field || key === undefined) continue;
      if (target === this.#people["table"]) record[field] = key;
      if (element?.target === this.#people["table"]) record[field] = [key];
    }
    return record;
  }

  create(table: string, values: Row, mode: "strict" | "lenient", actions: readonly ("create" | "import")[]): Outcome {
    const names = this.fieldsOf(table);
    const standard = this.standard(table);
    const unknown = Object.keys(values).filter((field) => !names.includes(field));
    const given = Object.keys(values).filter((field) => {
      if (!names.includes(field)) return false;
      return !this.#same(table, field, this.#read(this.shape(table, field), standard[field] ?? null), values[field]);
    });
    const judge = (fields: readonly string[], record: Row) => {
      const test = (rules: readonly Rule[]) =>
        this.#judge(rules, (rule) =>
          and([this.#applies(table, record, rule), this.#condition(table, record, rule.body["becomes"])]),
        );
      const place = this.#table(table)["grid"] === undefined ? undefined : this.#position(table, record);
      const cells = actions.includes("create") ? this.#cellRules(table, "edit") : [];
      const held = cells.filter(({ extent }) => this.#holdsRow(table, extent, place)).map(({ rule }) => rule);
      const acts = actions.map((action) =>
        test([...this.#covering(table, action, undefined, record), ...(action === "create" ? held : [])]),
      );
      const verdicts = fields.map((field) => {
        const parts = actions.map((action) => {
          const inCells = cells.filter(({ rule, extent }) =>
            this.#coversCell(table, rule, "edit", extent, field, record),
          );
          const more = action === "create" ? inCells.map(({ rule }) => rule) : [];
          return test([...this.#covering(table, action, field, record), ...more]);
        });
        const wrong =
          !this.asks() ||
          parts.some(({ permitted }) => !permitted) ||
          this.#refersWrongly(table, fields, field, undefined, record);
        return { field, wrong, confirm: parts.flatMap(({ confirm }) => confirm) };
      });
      const act = this.asks() && acts.every(({ permitted }) => permitted);
      return { verdicts, act, confirm: acts.flatMap(({ confirm }) => confirm) };
    };
    const apply = (fields: readonly string[]) => {
      const record = { ...standard };
      for (const field of fields) record[field] = values[field] ?? null;
      return record;
    };
    const isValid = (_: readonly string[], record: Row) =>
      !names.some((field) => this.#wrongValue(table, field, record)) && !this.#isTaken(table, record);
    return this.#resolve(given, unknown, mode, apply, judge, isValid);
  }

  #resolve(
    given: readonly string[],
    unknown: readonly string[],
    mode: "strict" | "lenient",
    apply: (fields: readonly string[]) => Row,
    judge: (
      fields: readonly string[],
      after: Row,
    ) => { verdicts: { field: string; wrong: boolean; confirm: string[] }[]; act: boolean; confirm: string[] },
    isValid: (fields: readonly string[], after: Row) => boolean,
  ): Outcome {
    let fields = given;
    const dropped = [...unknown];
    for (;;) {
      const after = apply(fields);
      const { verdicts, act, confirm } = judge(fields, after);
      const wrong = [...(act ? [] : ["act"]), ...verdicts.filter((one) => one.wrong).map(({ field }) => field)];
      if (mode === "strict" && wrong.length + unknown.length > 0)
        return { answer: join([...unknown, ...wrong]), dropped: "" };
      if (mode === "lenient") {
        // The act is judged on the record that would be stored: what is refused of its fields is dropped first.
        const fieldsWrong = wrong.filter((field) => field !== "act");
        dropped.push(...fieldsWrong);
        fields = fields.filter((field) => !wrong.includes(field));
        if (dropped.length > 0 && fields.length === 0) return { answer: join(dropped), dropped: "" };
        if (fieldsWrong.length > 0) continue;
        if (!act) return { answer: join([...dropped, "act"]), dropped: "" };
      }
      if (!isValid(fields, after)) return { answer: "invalid", dropped: "" };
      const all = [...confirm, ...verdicts.flatMap((one) => one.confirm)];
      return { answer: asked(all), record: after, dropped: mode === "lenient" ? join(dropped) : "" };
    }
  }
}

const trees = new Map<string, Condition>();

/** The tree of a condition; the same texts come again and again. */
function parse(text: string): Condition {
  const known = trees.get(text);
  if (known !== undefined) return known;
  const parsed = parseCondition(text);
  if ("problems" in parsed) throw new Error(`${text}: ${parsed.problems[0]?.expected}`);
  if (trees.size > 10_000) trees.clear();
  trees.set(text, parsed.condition);
  return parsed.condition;
}

/** What a driver may have made of a stored value, turned back; anything else as it is. */
function ownForm(shape: Shape, raw: unknown): unknown {
  const { type, element } = shape;
  if (type === "list" && element !== undefined && typeof raw === "string") {
    if (raw.startsWith("[")) return JSON.parse(raw);
    if (!raw.startsWith("{")) return raw;
    return [...raw.slice(1, -1).matchAll(/[^,"]+/g)].map(([one]) =>
      element.type === "boolean" ? one === "t" : ownForm(element, one),
    );
  }
  if (Array.isArray(raw) && element !== undefined) return raw.map((one) => ownForm(element, one));
  if (type === "integer" && (typeof raw === "bigint" || String(Number(raw)) === raw)) return Number(raw);
  if (type === "decimal" && typeof raw === "number" && String(raw).length < 16) return String(raw);
  if (type === "boolean" && (raw === 0 || raw === 1)) return raw === 1;
  if (type === "timestamp" && raw instanceof Date) return `${raw.toISOString().slice(0, 23)}000Z`;
  if (type === "timestamp" && typeof raw === "string" && / .*[+-]\d\d$/.test(raw)) {
    const instant = new Date(`${raw.replace(" ", "T")}:00`).toISOString();
    return `${instant.slice(0, 20)}${(/\.(\d+)/.exec(raw)?.[1] ?? "").padEnd(6, "0")}Z`;
  }
  if (type === "date" && raw instanceof Date) {
    // Far enough into the day that begins here or in UTC to be the same day in both.
    return new Date(raw.getTime() + 12 * 3_600_000 - raw.getTimezoneOffset() * 30_000).toISOString().slice(0, 10);
  }
  return raw;
}

const isBlock = (rule: Rule) => rule.effect === "deny" || rule.effect === "reserve";
const join = (names: readonly string[]) => [...new Set(names)].sort().join(",");
const asked = (rules: readonly string[]) => (rules.length === 0 ? "ok" : `confirm ${join(rules)}`);

function printed(value: Value): string {
  if (Array.isArray(value)) return `[${value.map((one) => printed(one)).join(",")}]`;
  // Whole numbers are held in thousandths, so that they compare with decimals.
  if (typeof value === "bigint") return value % 1000n === 0n ? String(value / 1000n) : `${value}/1000`;
  return String(value as string | boolean | null | symbol);
}

function sorted(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(sorted);
  if (typeof value !== "object" || value === null) return value;
  return Object.fromEntries(
    Object.entries(value)
      .sort(([a], [b]) => (a < b ? -1 : 1))
      .map(([key, one]) => [key, sorted(one)]),
  );
}

function thousandths(digits: string): bigint {
  const [whole = "", fraction = ""] = digits.replace("-", "").split(".");
  const size = BigInt(whole) * 1000n + BigInt(fraction.padEnd(3, "0"));
  return digits.startsWith("-") ? -size : size;
}

function microseconds(instant: string): bigint {
  const fraction = /\.(\d+)/.exec(instant)?.[1] ?? "";
  return BigInt(Date.parse(instant.replace(/\.\d+/, ""))) * 1000n + BigInt(fraction.padEnd(6, "0"));
}

function compared(op: "=" | "<>" | "<" | "<=" | ">" | ">=", a: Value, b: Value): Truth {
  if (a === null || b === null) return N;
  if (a === bad || b === bad) return anything;
  if (op === "=") return of(printed(a) === printed(b));
  if (op === "<>") return of(printed(a) !== printed(b));
  const [x, y] = typeof a === "string" ? [points(a), points(b as string)] : [a as bigint, b as bigint];
  if (op === "<") return of(x < y);
  if (op === "<=") return of(x <= y);
  if (op === ">") return of(x > y);
  return of(x >= y);
}

/** A text that `<` orders by code point: each as six digits. */
const points = (text: string) =>
  Array.from(text, (one) => (one.codePointAt(0) ?? 0).toString(16).padStart(6, "0")).join("");

function matches(how: string, text: string, pattern: string): boolean {
  if (how === "starts with") return text.startsWith(pattern);
  if (how === "ends with") return text.endsWith(pattern);
  if (how === "contains") return text.includes(pattern);
  const source = Array.from(pattern, (one) =>
    one === "%" ? "[^]*" : one === "_" ? "[^]" : `\\u{${(one.codePointAt(0) ?? 0).toString(16)}}`,
  );
  return new RegExp(`^${source.join("")}$`, "u").test(text);
}

interface Range {
  readonly left: number;
  readonly right: number;
  readonly top: number;
  readonly bottom: number;
}

/** Single-letter columns are enough here. */
function rangeOf(text: string): Range {
  const [from = "", to] = text.split(":");
  const column = (part: string) => (/[A-Z]/.test(part) ? part.charCodeAt(0) - 64 : undefined);
  const row = (part: string) => (/\d/.test(part) ? Number(part.replace(/\D/g, "")) : undefined);
  const open = Number.POSITIVE_INFINITY;
  if (to === "") return { left: column(from) ?? 1, right: open, top: 1, bottom: open };
  const end = to ?? from;
  return { left: column(from) ?? 1, right: column(end) ?? open, top: row(from) ?? 1, bottom: row(end) ?? open };
}
