import fc from "fast-check";
import { compile, type Portier, type Row, type Session } from "portier";
import { type Filter, type FilterValue, filterData } from "portier/sql";
import { expect, it } from "vitest";
import { printCondition } from "../../src/conditions/printer.js";
import { shiftValue } from "../../src/conditions/shift.js";
import { type Field, keptTablesOf } from "../../src/schema/schema.js";
import { listElements } from "../../src/schema/types/list.js";
import { scalarTypes } from "../../src/schema/types/scalars.js";
import { storedValue } from "../../src/schema/types/stored-form.js";
import { countPairs } from "../support/grammar.js";
import { conditions, documentFrom, items, promised, worlds } from "../support/random-documents.js";
import { runsOf, seedOf } from "../support/runs.js";

/** A filter as an application might evaluate it that has no adapter: from its documentation alone. */
type Truth = boolean | null;

interface At {
  readonly table: string;
  readonly row: Row;
  readonly around?: At;
  readonly outer?: At;
}

type FieldsOf = (table: string, field: string) => { readonly target?: string; readonly by?: readonly string[] };

class Store {
  readonly #data: Readonly<Record<string, readonly Row[]>>;
  readonly #fields: FieldsOf;

  constructor(data: Readonly<Record<string, readonly Row[]>>, fields: FieldsOf) {
    this.#data = data;
    this.#fields = fields;
  }

  meets(filter: Filter, at: At): Truth {
    const value = (one: FilterValue) => this.#value(one, at);
    if ("always" in filter) return filter.always;
    if ("all" in filter) return all(filter.all.map((one) => this.meets(one, at)));
    if ("any" in filter) return not(all(filter.any.map((one) => not(this.meets(one, at)))));
    if ("not" in filter) return not(this.meets(filter.not, at));
    if ("unless" in filter) return this.meets(filter.unless, at) !== true;
    if ("compare" in filter) return compare(filter.compare, value(filter.left), value(filter.right));
    if ("in" in filter) {
      return not(all(filter.in.map((one) => not(compare("=", value(filter.value), value(one))))));
    }
    if ("among" in filter) {
      const [list, one] = [value(filter.among), value(filter.value)];
      return list === null || one === null ? null : (list as unknown[]).some((other) => same(other, one));
    }
    if ("match" in filter) {
      const [text, pattern] = [value(filter.value), value(filter.pattern)] as [string | null, string | null];
      return text === null || pattern === null ? null : matches(filter.match, text, pattern);
    }
    if ("isNull" in filter) return value(filter.isNull) === null;
    if ("exists" in filter) {
      const inside = { table: filter.exists, around: at, outer: at.outer ?? at };
      return this.#all(filter.exists).some((row) => this.meets(filter.where, { ...inside, row }) === true);
    }
    if ("record" in filter) {
      const keys = [value(filter.key)].flat();
      const rows = keys.map((key) => this.#find(filter.record, key)).filter((row) => row !== undefined);
      return rows.some((row) => this.meets(filter.where, { table: filter.record, row }) === true);
    }
    return this.#along(filter, at);
  }

  #along({ line, people, manager, levels = 99, where }: Extract<Filter, { line: string }>, { row }: At): boolean {
    const passed = new Set([row]);
    let step = [row];
    for (let level = 0; level < levels && step.length > 0; level++) {
      const next = step.flatMap((one) =>
        line === "above"
          ? [this.#find(people, one[manager])].filter((found) => found !== undefined)
          : this.#all(people).filter((other) => other[manager] === one["id"]),
      );
      step = next.filter((one) => !passed.has(one));
      for (const one of step) passed.add(one);
      if (step.some((one) => this.meets(where, { table: people, row: one }) === true)) return true;
    }
    return false;
  }

  #value(value: FilterValue, at: At): unknown {
    if ("value" in value) return value.value;
    if ("text" in value) return this.#value(value.text, at);
    if ("shift" in value) {
      const from = this.#value(value.shift, at) as string | null;
      return from === null ? null : moved(from, value.by, value.unit);
    }
    if ("field" in value) return this.#follow(at.table, at.row, value.field);
    const place = "around" in value ? at.around : at.outer;
    return place === undefined
      ? null
      : this.#follow(place.table, place.row, "around" in value ? value.around : value.outer);
  }

  #follow(table: string, row: Row, [name = "", ...rest]: readonly string[]): unknown {
    const { target = "", by } = this.#fields(table, name);
    const parts = by?.map((part) => row[part]);
    const value = parts === undefined ? row[name] : parts.includes(null) ? null : parts.join("/");
    if (rest.length === 0) return value;
    const next = this.#find(target, value);
    return next === undefined ? null : this.#follow(target, next, rest);
  }

  #all(table: string): readonly Row[] {
    return this.#data[table] ?? [];
  }

  #find(table: string, key: unknown): Row | undefined {
    const keyOf = (row: Row) => (table === "team" ? `${row["event"]}/${row["member"]}` : row["id"]);
    return key === null ? undefined : this.#all(table).find((row) => keyOf(row) === key);
  }
}

function all(truths: readonly Truth[]): Truth {
  if (truths.includes(false)) return false;
  return truths.includes(null) ? null : true;
}

const not = (truth: Truth): Truth => (truth === null ? null : !truth);

const isNumeric = (value: unknown) => typeof value === "number" || /^-?\d+(\.\d+)?$/.test(String(value));

function same(a: unknown, b: unknown): boolean {
  if (isNumeric(a) && isNumeric(b)) return Number(a) === Number(b);
  return JSON.stringify(a) === JSON.stringify(b);
}

function compare(op: string, a: unknown, b: unknown): Truth {
  if (a === null || b === null) return null;
  if (op === "=" || op === "<>") return same(a, b) === (op === "=");
  const [x, y] = isNumeric(a) && isNumeric(b) ? [Number(a), Number(b)] : [String(a), String(b)];
  return { "<": x < y, "<=": x <= y, ">": x > y, ">=": x >= y }[op] as boolean;
}

function matches(how: string, text: string, pattern: string): boolean {
  if (how === "starts with") return text.startsWith(pattern);
  if (how === "ends with") return text.endsWith(pattern);
  if (how === "contains") return text.includes(pattern);
  const escaped = pattern.replace(/[.*+?^${}()|[\]\\]/g, "\\$&");
  return new RegExp(`^${escaped.replaceAll("%", ".*").replaceAll("_", ".")}$`, "s").test(text);
}

function moved(from: string, by: number, unit: "day" | "hour" | "minute"): string | null {
  const type = from.length === 10 ? "date" : "timestamp";
  return shiftValue(from, { type: scalarTypes[type], amount: by, unit });
}

it("says as data what a session answers", () => {
  const runs = runsOf(400);
  const counts = new Map<string, number>();
  let [asked, seen] = [0, 0];
  const cases = fc.record({
    condition: conditions,
    negated: fc.boolean(),
    world: worlds,
    me: fc.constantFrom("p1", "p2", "p3"),
    item: items,
  });
  fc.assert(
    fc.property(cases, ({ condition, negated, world, me, item }) => {
      const text = printCondition(condition);
      const where = negated ? `not (${text})` : text;
      const to = negated ? ["owner", "lead of event", "above owner"] : ["anyone"];
      const rules = [
        { to: ["anyone"], where, permit: { view: ["title"] } },
        { to, deny: { view: ["title"] }, ...(negated ? {} : { where: "id = 'none'" }) },
      ];
      const portier = compile(documentFrom({ rules: rules as never }));
      // What does not fit its type is for each store to keep out.
      const tables = { ...world, items: [item] } as Record<string, readonly Row[]>;
      const clean = Object.fromEntries(
        Object.entries(tables).map(([name, rows]) => [name, rows.map((row) => usual(portier, name, row))]),
      );
      const session = portier.session({
        person: me,
        source: portier.source(clean),
        request: promised,
        onDiagnostic: () => {},
      });
      const filter = filterOf(session);
      fc.pre(filter !== undefined);
      const store = new Store(clean, (table, name) => {
        const field =
          portier.schema.tables.get(table)?.byName.get(name) ?? (keptFields(portier, table)?.get(name) as Field);
        return {
          ...(field.type.target && { target: field.type.target }),
          ...(field.by && { by: field.by.map((one) => one.name) }),
        };
      });
      const [row] = clean["items"] as [Row];
      const expected = session.may("view", "items", row);
      countPairs(condition, counts);
      asked++;
      if (expected) seen++;
      expect(store.meets(filter, { table: "items", row }) === true, `${where} ${JSON.stringify(filter)}`).toBe(
        expected,
      );
    }),
    { numRuns: runs, seed: seedOf(1) },
  );
  expect(Math.min(seen, asked - seen)).toBeGreaterThan(asked / 10);
  for (const kind of ["member", "may", "exists", "like", "in-list", "shift", "between"]) {
    expect([...counts.keys()].some((pair) => pair.includes(kind))).toBe(true);
  }
});

/** Undefined for a person of whom it cannot be read what they hold. */
function filterOf(session: Session): Filter | undefined {
  try {
    return JSON.parse(JSON.stringify(filterData(session, "items", "view"))) as Filter;
  } catch (error) {
    expect((error as Error).message).toMatch(/cannot be read/);
    return undefined;
  }
}

/** A record with its values in the form in which they compare; what fits no type is null. */
function usual(portier: Portier, table: string, row: Row): Row {
  const declared = portier.schema.tables.get(table)?.byName ?? keptFields(portier, table);
  return Object.fromEntries(
    Object.entries(row).map(([name, value]) => {
      const field = declared?.get(name);
      if (field === undefined || value === null) return [name, value];
      const known = storedValue(field.type, value);
      if (known === undefined) return [name, null];
      return [name, field.type.element === undefined ? known : listElements(known)];
    }),
  );
}

function keptFields({ schema }: Portier, table: string): ReadonlyMap<string, Field> | undefined {
  return keptTablesOf(schema).find(({ name }) => name === table)?.byName;
}
