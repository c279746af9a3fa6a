import { readCondition } from "../../conditions/check.js";
import type { Row } from "../../conditions/source.js";
import { type ActionName, actionNamesOf, actionOf, speaksOfFields } from "../../rules/actions.js";
import { storedMembers } from "../../rules/stored-members.js";
import { findField } from "../../schema/field-path.js";
import { instantExpects, readInstant } from "../../schema/instant.js";
import { type Locate, type Path, PortierError } from "../../schema/problems.js";
import { isMapping, type Part, readMapping, readShape, readText, readTexts } from "../../schema/reader.js";
import { Problems } from "../../schema/report.js";
import type { Field, Table } from "../../schema/schema.js";
import { internals } from "../../session/internals.js";
import type { Portier } from "../../session/portier.js";
import { type Check, type Expectation, type ExpectedRecords, type ExpectedViewer, outcomes } from "./expectation.js";

const keys = [
  "name",
  "as",
  "at",
  "on",
  "may",
  "mayNot",
  "exactly",
  "count",
  "edit",
  "create",
  "do",
  "outcome",
  "by",
  "becomes",
] as const;

type Shape = ReadonlyMap<(typeof keys)[number], Part>;

/**
 * Reads expectations and checks every name in them against a document.
 *
 * @throws PortierError with every problem, each with its place where `locate` knows it.
 */
export function readExpectations(portier: Portier, input: unknown, locate?: Locate): Expectation[] {
  const problems = new Problems();
  const root: Part = { value: input, path: [], problems };
  const list = readShape(root, "a file of expectations", ["expectations"]).get("expectations");
  const reader = new ExpectationReader(portier, problems);
  const read: Expectation[] = [];
  if (list === undefined) problems.add("missing-key", { what: "a file of expectations", key: "expectations" });
  else if (!Array.isArray(list.value)) {
    problems.add("wrong-shape", { what: "expectations", expected: "a list", found: list.value }, list.path);
  } else {
    for (const [index, value] of list.value.entries()) {
      const one = reader.read({ value, path: [...list.path, index], problems });
      if (one !== undefined) read.push(one);
    }
  }
  if (problems.list.length === 0) return read;
  throw new PortierError(problems.list.map((one) => ({ ...one, ...locate?.(one.path, one.offset) })));
}

class ExpectationReader {
  readonly #portier: Portier;
  readonly #problems: Problems;

  constructor(portier: Portier, problems: Problems) {
    this.#portier = portier;
    this.#problems = problems;
  }

  read(part: Part): Expectation | undefined {
    const shape = readShape(part, "an expectation", keys);
    for (const key of ["as", "on"] as const) {
      if (!shape.has(key)) this.#problems.add("missing-key", { what: "an expectation", key }, part.path);
    }
    const as = this.#viewer(shape.get("as"));
    const on = this.#records(shape.get("on"));
    if (as === undefined || on === undefined) return undefined;
    const checks = this.#checks(shape, on);
    if (checks.length === 0 && !keys.some((key) => shape.has(key) && !["name", "as", "at", "on"].includes(key))) {
      const hint = "say what is expected: may, mayNot, exactly, count, edit, create or do";
      this.#problems.add("missing-key", { what: "an expectation", key: "may", hint }, part.path);
    }
    return {
      path: part.path,
      name: readText(shape.get("name"), "name"),
      as,
      at: this.#instant(shape.get("at")),
      on,
      checks,
    };
  }

  /** `s-003`, `visitor`, `{ role: keeper }`, `{ group: north }`, `{ person: { post: keeper, ... } }`. */
  #viewer(part: Part | undefined): ExpectedViewer | undefined {
    if (part === undefined) return undefined;
    if (!isMapping(part.value)) {
      const key = String(part.value);
      return key === "visitor" ? { kind: "visitor" } : { kind: "person", key };
    }
    const shape = readShape(part, "as", ["role", "group", "person"]);
    const [kind, given] = [...shape][0] ?? [];
    if (given === undefined || shape.size > 1) {
      const expected = "a person's key, visitor, or one of { role }, { group }, { person }";
      this.#problems.add("wrong-shape", { what: "as", expected, found: part.value }, part.path);
      return undefined;
    }
    if (kind === "person") {
      const people = this.#portier.schema.people?.table;
      if (people === undefined) {
        this.#problems.add("no-people", { what: "a made-up person" }, given.path);
        return undefined;
      }
      return { kind: "made-up", row: this.#row(given, people) };
    }
    const name = readText(given, kind ?? "role");
    if (name === undefined) return undefined;
    const { schema, groups } = internals(this.#portier).ruleset;
    const known = kind === "role" ? schema.roles : groups;
    if (known.has(name)) return { kind: "member", name };
    this.#problems.add("unknown-who", { name, candidates: known.keys() }, given.path);
    return undefined;
  }

  #instant(part: Part | undefined): string | undefined {
    const text = readText(part, "at");
    if (part === undefined || text === undefined) return undefined;
    const instant = readInstant(this.#portier.schema, text);
    if (instant === undefined) {
      this.#problems.add("bad-value", { field: "at", expects: instantExpects, found: text }, part.path);
    }
    return instant;
  }

  /** `objects`, `objects/BM-SH-0001`, `{ table: objects, where: CONDITION }`, `{ table: objects, record: {...} }`. */
  #records(part: Part | undefined): ExpectedRecords | undefined {
    if (part === undefined) return undefined;
    if (!isMapping(part.value)) {
      const text = readText(part, "on");
      if (text === undefined) return undefined;
      const slash = text.indexOf("/");
      const table = this.#table(part, slash < 0 ? text : text.slice(0, slash));
      if (table === undefined) return undefined;
      return slash < 0 ? { kind: "table", table } : { kind: "key", table, key: text.slice(slash + 1) };
    }
    const shape = readShape(part, "on", ["table", "where", "record"]);
    const tablePart = shape.get("table");
    const name = readText(tablePart, "table");
    if (tablePart === undefined) this.#problems.add("missing-key", { what: "on", key: "table" }, part.path);
    const table = tablePart === undefined || name === undefined ? undefined : this.#table(tablePart, name);
    if (table === undefined) return undefined;
    const [where, record] = [shape.get("where"), shape.get("record")];
    if (record !== undefined) return { kind: "record", table, row: this.#row(record, table) };
    const text = readText(where, "where");
    if (where === undefined || text === undefined) return { kind: "table", table };
    const { schema, ruleset } = internals(this.#portier);
    const scope = {
      schema,
      table,
      problems: this.#problems,
      path: where.path,
      isAction: undefined,
      members: storedMembers(ruleset),
    };
    const condition = readCondition(text, scope);
    return condition && { kind: "where", table, condition, text };
  }

  #table(part: Part, name: string): Table | undefined {
    const { tables } = this.#portier.schema;
    const table = tables.get(name);
    if (table === undefined) this.#problems.add("unknown-table", { name, candidates: tables.keys() }, part.path);
    return table;
  }

  /** A record that is made up: its fields must be there, its values may be anything that a record can hold. */
  #row(part: Part, table: Table): Row {
    const blank = table.fields.map((field) => [field.name, field.default ?? null] as const);
    return { ...Object.fromEntries(blank), ...this.#values(part, table) };
  }

  #values(part: Part, table: Table): Row {
    const given = [...readMapping(part, `values of "${table.name}"`)];
    return Object.fromEntries(
      given.flatMap(([name, entry]) => (findField(entry, table, name) === undefined ? [] : [[name, entry.value]])),
    );
  }

  #checks(shape: Shape, on: ExpectedRecords): Check[] {
    const { table } = on;
    const asked = (["may", "mayNot", "exactly"] as const).flatMap((kind) => {
      const part = shape.get(kind);
      return part === undefined ? [] : this.#asked(kind, part, table);
    });
    const counted = shape.get("count");
    return [...asked, ...(counted === undefined ? [] : this.#counts(counted, table)), ...this.#changes(shape, table)];
  }

  #asked(kind: "may" | "mayNot" | "exactly", part: Part, table: Table): Check[] {
    return [...readMapping(part, kind)].flatMap(([name, entry]): Check[] => {
      const action = this.#action(entry, name, table);
      if (action === undefined) return [];
      const { path } = entry;
      if (entry.value === "yes" || entry.value === true) {
        if (kind !== "exactly") return [{ kind, action, fields: [undefined], path }];
        this.#problems.add("wrong-shape", { what: kind, expected: "a list of fields", found: entry.value }, path);
        return [];
      }
      if (!speaksOfFields(table, action)) {
        this.#problems.add(
          "wrong-shape",
          { what: `${name} of "${table.name}"`, expected: "yes", found: entry.value },
          path,
        );
        return [];
      }
      const fields = this.#fields(entry, table, kind);
      return [kind === "exactly" ? { kind, action, fields, path } : { kind, action, fields, path }];
    });
  }

  #fields(part: Part, table: Table, what: string): Field[] {
    return readTexts(part, what).flatMap((entry) => findField(entry, table, entry.value as string) ?? []);
  }

  #action(part: Part, name: string, table: Table): ActionName | undefined {
    if (actionOf(table, name) !== undefined) return name;
    this.#problems.add("unknown-action", { table: table.name, name, candidates: actionNamesOf(table) }, part.path);
    return undefined;
  }

  #counts(part: Part, table: Table): Check[] {
    return [...readMapping(part, "count")].flatMap(([name, entry]): Check[] => {
      const action = this.#action(entry, name, table);
      const { value, path } = entry;
      if (action === undefined) return [];
      if (typeof value === "number" && Number.isInteger(value) && value >= 0) {
        return [{ kind: "count", action, count: value, path }];
      }
      this.#problems.add("wrong-shape", { what: "a count", expected: "a whole number", found: value }, path);
      return [];
    });
  }

  #changes(shape: Shape, table: Table): Check[] {
    const found = (["edit", "create", "do"] as const).flatMap((key) => {
      const part = shape.get(key);
      return part === undefined ? [] : ([[key, part]] as const);
    });
    const [first, second] = found;
    if (second !== undefined) {
      const expected = "one of edit, create and do";
      this.#problems.add("wrong-shape", { what: "an expectation", expected, found: second[0] }, second[1].path);
    }
    if (first === undefined) {
      for (const key of ["outcome", "by", "becomes"] as const) {
        const part = shape.get(key);
        const expected = "given with edit, create or do";
        if (part !== undefined)
          this.#problems.add("wrong-shape", { what: key, expected, found: part.value }, part.path);
      }
      return [];
    }
    const [key, part] = first;
    const action = key === "do" ? this.#action(part, String(part.value), table) : key;
    const values = key === "do" ? {} : this.#values(part, table);
    const becomes = shape.get("becomes");
    const outcome = this.#outcome(shape.get("outcome"));
    const by = this.#rule(shape.get("by"));
    if (action === undefined) return [];
    const after = becomes === undefined ? undefined : this.#values(becomes, table);
    return [{ kind: "change", action, values, outcome, by, becomes: after, path: part.path }];
  }

  #outcome(part: Part | undefined) {
    const text = readText(part, "outcome") ?? "accepted";
    const outcome = outcomes.find((one) => one === text);
    if (outcome === undefined && part !== undefined) {
      this.#problems.add("unknown-choice", { field: "outcome", name: text, candidates: outcomes }, part.path);
    }
    return outcome ?? "accepted";
  }

  #rule(part: Part | undefined): string | undefined {
    const address = readText(part, "by");
    if (part === undefined || address === undefined) return address;
    const known = internals(this.#portier).ruleset.rules.map((rule) => rule.address);
    if (known.includes(address)) return address;
    this.#problems.add("unknown-rule", { name: address, candidates: known }, part.path);
    return undefined;
  }
}

/** Where an expectation or one of its checks stands. */
export function placeText(locate: Locate | undefined, path: Path, file: string): string {
  const { line, column } = locate?.(path) ?? {};
  return line === undefined ? file : `${file}:${line}:${column ?? 1}`;
}
