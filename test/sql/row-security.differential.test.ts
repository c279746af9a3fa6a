import fc from "fast-check";
import { type ChangeResult, compile, type Row, type RuleInput, type Session } from "portier";
import type { Connection } from "portier/database";
import { rowSecurity } from "portier/sql";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { isStorable } from "../../src/schema/scalar.js";
import { type Field, isOwn, type Table } from "../../src/schema/schema.js";
import { createTables, type Engine, engines, storeAll } from "../support/engines.js";
import {
  documentFrom,
  everyRules,
  groups,
  items,
  lines,
  promised,
  proposals,
  rules,
  sheetRules,
  worlds,
} from "../support/random-documents.js";
import { isSampled, runsOf, seedOf } from "../support/runs.js";

// A case is one answer that memory and database both gave.
const seed = seedOf(11);

const generous = {
  to: "anyone",
  where: "level is null or level <> 2",
  becomes: "any",
  permit: { edit: ["all", "id", "keeper", "price"], create: ["all", "id", "keeper", "price"] },
};
const open = { to: "anyone", permit: { view: ["all", "price"], delete: "yes" } };

// What PostgreSQL does not take as a text never comes to its policies.
const storable = proposals.filter((values) => isStorable(values));

const cases = fc.record({
  drawn: fc.record({
    rules: fc
      .tuple(fc.array(rules, { minLength: 1, maxLength: 6 }), fc.integer({ min: 0, max: 3 }))
      .map(([drawn, more]) => [...drawn, ...(more & 1 ? [generous] : []), ...(more & 2 ? [open] : [])]),
    every: fc.option(everyRules, { nil: undefined, freq: 3 }),
    // Where everybody may change everything, it shows what people protected; and where they only warn, that they do.
    sheet: fc
      .tuple(fc.array(sheetRules, { maxLength: 5 }), fc.boolean())
      .map(([drawn, isOpen]) => (isOpen ? [openSheet] : [...drawn, generousSheet])),
    groups,
  }),
  // There are few cases: in most of them people protected the whole sheet, too, in one way or the other.
  world: fc.tuple(worlds, fc.constantFrom("confirm", "reserve", undefined)).map(([world, effect]) => {
    const { portier_protections: drawn } = world;
    const whole = {
      id: "whole",
      table: "sheet",
      ranges: ["A1:E6"],
      except: null,
      effect,
      to: ["person p2"],
      note: null,
    };
    const times = { from: null, until: null, by: "p1", at: "2027-01-01T00:00:00Z", stamp: 99 };
    const asking = effect === "confirm" ? drawn.map((row) => ({ ...row, effect })) : drawn;
    return { ...world, portier_protections: effect === undefined ? drawn : [...asking, { ...whole, ...times }] };
  }),
  items: fc.array(items, { minLength: 3, maxLength: 3 }),
  lines: fc.array(lines, { minLength: 3, maxLength: 3 }),
  proposals: fc.array(fc.tuple(storable, fc.array(fc.nat(), { maxLength: 3 })), { minLength: 4, maxLength: 4 }),
  moves: fc.array(lines, { minLength: 4, maxLength: 4 }),
});

const generousSheet: RuleInput = { to: "junior", permit: { view: "all", edit: ["q1"] } };
const openSheet: RuleInput = { to: "signed-in", permit: { view: "all", edit: "all", create: "all", delete: "yes" } };

const persons = ["p1", "p2", "p3", "p4", "stranger", null] as const;
const catalogs = [
  "pg_depend",
  "pg_shdepend",
  "pg_attribute",
  "pg_proc",
  "pg_class",
  "pg_type",
  "pg_rewrite",
  "pg_trigger",
];
const onPostgres = Object.entries(engines).filter(([name]) => name === "PGlite" || name === "PostgreSQL");

describe.each(onPostgres)("row security on %s", (name, openEngine) => {
  const runs = runsOf(3, name);
  let engine: Engine;
  let compared = 0;
  let written = 0;
  let migrations = 0;
  /** How what people protected came up. */
  const kept = new Set<string>();
  const user = `portier_user_${process.pid}_${Math.floor(Math.random() * 1e6)}`;
  const seen = `${user}_seen`;
  const { schema } = compile(documentFrom({ rules: [] }));
  const script = (text: string) => (engine.script as (text: string) => Promise<unknown>)(text);

  beforeAll(async () => {
    engine = await openEngine();
    await createTables(engine, schema);
    await script(`create role ${user}`);
  });
  afterAll(async () => {
    await script(`drop schema if exists ${seen}, ${seen}_internal, ${seen}_app cascade`);
    await script(
      `drop owned by ${user}, ${seen}_reader, ${seen}_reader_app; drop role ${user}, ${seen}_reader, ${seen}_reader_app`,
    );
    await engine?.close();
    // biome-ignore lint/suspicious/noConsole: whoever reads the run must be able to repeat it
    if (compared > 0) console.info(`${name}, seed ${seed}: ${compared} answers compared, ${written} changes written`);
  });

  async function compareSeen(
    link: Connection,
    session: Session,
    table: Table,
    rows: readonly Row[],
    marks: readonly Row[],
  ): Promise<void> {
    const isSet = ({ name: part }: Table, { name: attr }: Field) =>
      marks.some((row) => row["who"] === session.person && row["part"] === part && row["attr"] === attr);
    const select = `select * from ${seen}.${table.source}`;
    const found = await link.query(select, []);
    // A plan that is kept serves whoever asks next, too: it is another one.
    await link.query(`prepare kept as ${select}`, []);
    const sorted = (all: readonly object[]) => all.map((row) => JSON.stringify(row)).sort();
    expect(sorted(await link.query("execute kept", [])), `${table.name} prepared`).toEqual(sorted(found));
    await link.query("deallocate kept", []);
    const planned = await link.query(`select * from ${seen}_app.${table.source}`, []);
    expect(sorted(planned), `${table.name} planned for the current user`).toEqual(sorted(found));
    const byKey = new Map(found.map((row) => [keyOf(table, row, (field) => field.column), row]));
    let visible = 0;
    for (const row of rows) {
      const masked = session.mask(table.name, row, "list");
      const key = keyOf(table, row, (field) => field.name);
      const given = byKey.get(key);
      expect(given !== undefined, `${table.name} ${key} is seen`).toBe(masked !== undefined);
      compared += table.fields.length;
      if (masked === undefined || given === undefined) continue;
      visible++;
      for (const field of table.fields.filter(isOwn)) {
        const value = engine.dialect.decode(field.type, given[field.column]);
        // What does not fit its type is shown as it is stored, where it may be shown.
        if (row[field.name] !== null && !field.type.fits(row[field.name])) continue;
        // No text names one record of these here: what is set on one hides the field on all.
        if (table.key.length > 1 && isSet(table, field) && given[field.column] === null) continue;
        expect(canonical(field, value), `${table.name} ${key} ${field.name}`).toEqual(
          canonical(field, masked[field.name]),
        );
      }
    }
    expect(found.length).toBe(visible);
  }

  /** Runs a change as the person would and compares what came of it; nothing of it stays. */
  async function compareChange(
    link: Connection,
    statement: { readonly text: string; readonly params: readonly unknown[] },
    judge: (confirmed: readonly string[]) => ChangeResult,
    table: Table,
    isReached: boolean,
    what: string,
    isFromNowhere = false,
  ): Promise<void> {
    const expected = judge([]);
    if (!expected.accepted && (expected.reason === "invalid" || expected.reason === "fault")) return;
    const told = expected.accepted ? [] : [...expected.refusals, ...(expected.confirm ?? [])];
    const byData = told.filter(({ rule }) => rule?.startsWith("sheet/protection."));
    if (isFromNowhere && byData.length > 0 && byData.length === told.length) kept.add("from nowhere");
    for (const one of byData) {
      const refused = `${"field" in one && one.field !== undefined ? (one.field === "row" ? "place" : "cell") : "row"} refused`;
      kept.add("reason" in one ? refused : "confirm");
    }
    compared++;
    const attempt = () => outcomeOf(link, statement, table, user);
    if (!isReached) {
      expect(await attempt(), what).toMatchObject({ rows: 0 });
      return;
    }
    if (expected.accepted) {
      const outcome = await attempt();
      expect(outcome, what).toMatchObject({ rows: 1 });
      const { record } = expected;
      const left = (outcome as { left?: readonly Row[] }).left ?? [];
      const key = record && keyOf(table, record, (field) => field.name);
      const stored = left.find((row) => keyOf(table, row, (field) => field.column) === key);
      for (const field of table.fields.filter((one) => isOwn(one) && !one.computed)) {
        const value = engine.dialect.decode(field.type, stored?.[field.column]);
        if (record !== undefined)
          expect(canonical(field, value), `${what} ${field.name}`).toEqual(canonical(field, record[field.name]));
      }
      written++;
      return;
    }
    if (expected.reason === "unconfirmed") {
      const asked = (expected.confirm ?? []).map(({ rule }) => rule);
      expect(await attempt(), what).toMatchObject({ code: "P0001" });
      await link.query(`select ${seen}.confirm(variadic $1::text[])`, [asked]);
      const then = judge(asked);
      if (then.accepted) expect(await attempt(), what).toMatchObject({ rows: 1 });
      await link.query(`select ${seen}.confirm(variadic $1::text[])`, [[]]);
      return;
    }
    if (expected.reason === "not-found") {
      expect(await attempt(), what).toMatchObject({ rows: 0 });
      return;
    }
    const isDenied = expected.refusals.some(({ reason }) => reason !== "no-such-record");
    const fields = expected.refusals.flatMap(({ field }) => (field === undefined ? [] : [field]));
    const outcome = await attempt();
    expect(outcome, `${what} ${JSON.stringify(expected.refusals)}`).toMatchObject({
      code: isDenied ? "42501" : "23503",
    });
    const { message } = outcome as { message: string };
    const named = [...message.matchAll(/\(([^)]*)\)/g)].flatMap(([, list = ""]) => list.split(", "));
    expect(named.sort(), `${what} ${message}`).toEqual([...new Set(fields)].sort());
  }

  it("shows and judges what memory does", async () => {
    await fc.assert(
      fc.asyncProperty(cases, async ({ drawn, world, items: things, lines: sheet, proposals: drawnValues, moves }) => {
        const portier = compile(documentFrom(drawn));
        const given: Record<string, readonly Row[]> = {
          ...world,
          items: things.map((row, index) => ({ ...row, id: `i${index + 1}` })),
          // One row comes from nowhere, mostly into what is protected.
          sheet: sheet.map((row, index) => ({ ...row, ...(index === 0 ? { row: null } : {}), id: `s${index + 1}` })),
        };
        const data = await storeAll(engine, portier.schema, given);
        const tables = engine.schema ?? "public";
        await script(rowSecurity(portier, { schema: seen, tables, applications: [user] }).migration);
        // Views that come and go by the thousand leave the catalogs full of what is gone.
        if (++migrations % 20 === 0) for (const name of catalogs) await engine.run(`vacuum pg_catalog.${name}`);

        // What is sampled is so by a few people.
        for (const [index, person] of persons.slice(0, isSampled(name) ? 2 : persons.length).entries()) {
          const session = portier.session({ person, source: portier.source(data), request: promised });
          await engine.connection.transaction(async (link) => {
            await link.query(`set local role ${user}`, []);
            await link.query(`select ${seen}.set_person($1, $2)`, [person, JSON.stringify(promised)]);
            for (const table of portier.schema.tables.values()) {
              await compareSeen(link, session, table, data[table.name] ?? [], data["marks"] ?? []);
            }
            const changes: [string, string, Row][] = [];
            for (const [at, [all, picks]] of drawnValues.entries()) {
              const few = Object.fromEntries(
                picks.map((pick) => Object.entries(all)[pick % 19]).filter((one) => one !== undefined),
              );
              changes.push(["items", `i${(at % 3) + 1}`, at === index % 4 ? all : few]);
              const { id: _, ...drawnLine } = moves[at] as Row;
              const line = at === 0 ? { ...drawnLine, row: 1 + (index % 6) } : drawnLine;
              const [one, two] = Object.entries(line).filter(
                (_, place) => (picks[0] ?? at) % 5 === place || place === 0,
              );
              changes.push([
                "sheet",
                `s${(at % 3) + 1}`,
                Object.fromEntries([one, two].filter((entry) => entry !== undefined)),
              ]);
            }
            for (const [at, [tableName, key, values]] of changes.entries()) {
              // The views are written alike, also those that are planned for the current user.
              const views = at % 2 === 0 ? seen : `${seen}_app`;
              const table = schema.tables.get(tableName) as Table;
              const before = data[tableName]?.find(({ id }) => id === key) as Row;
              const masked = session.mask(tableName, before, "list");
              const isReached = masked !== undefined;
              const proposed = storableValues(table, values);
              // A hidden field looks null already: to give it null is to give it nothing.
              const edited = proposed.filter(
                ([field, value]) => value !== null || masked === undefined || field.name in masked,
              );
              if (edited.length > 0) {
                const sets = edited.map(([field], place) => `${quote(field.column)} = $${place + 2}`).join(", ");
                const text = `update ${views}.${table.source} set ${sets} where id = $1 returning 1`;
                const params = [key, ...edited.map(([field, value]) => engine.dialect.encode(field.type, value))];
                const what = `${person} edits ${tableName} ${key} ${JSON.stringify(edited.map(([field, value]) => [field.name, value]))}`;
                const judge = (confirmed: readonly string[]) =>
                  session.checkEdit(tableName, before, valuesOf(edited), { confirmed });
                const isFromNowhere =
                  before["row"] === null &&
                  edited.every(([{ name }, value]) => name === "row" && Number(value) > 0 && Number(value) <= 6);
                await compareChange(link, { text, params }, judge, table, isReached, what, isFromNowhere);
              }
              const made = [
                [table.byName.get("id") as Field, "new"] as const,
                ...proposed.filter(([field]) => field.name !== "id"),
              ];
              const places = made.map((_, place) => `$${place + 1}`).join(", ");
              const columns = made.map(([field]) => quote(field.column)).join(", ");
              const text = `insert into ${views}.${table.source} (${columns}) values (${places}) returning 1`;
              const params = made.map(([field, value]) => engine.dialect.encode(field.type, value));
              const what = `${person} creates ${tableName} ${JSON.stringify(made.map(([field, value]) => [field.name, value]))}`;
              const judge = (confirmed: readonly string[]) =>
                session.checkCreate(tableName, valuesOf(made), { confirmed });
              await compareChange(link, { text, params }, judge, table, true, what);
              const removal = { text: `delete from ${views}.${table.source} where id = $1 returning 1`, params: [key] };
              const isGone = (confirmed: readonly string[]) => session.checkDelete(tableName, before, { confirmed });
              await compareChange(link, removal, isGone, table, isReached, `${person} deletes ${tableName} ${key}`);
            }
          });
        }
      }),
      // To make such a case smaller takes longer than to read it.
      { seed, numRuns: runs, endOnFailure: true },
    );
    if (isSampled(name)) return;
    expect(compared).toBeGreaterThan(runs * 300);
    expect(written).toBeGreaterThan(runs);
    expect([...kept].sort()).toEqual(["cell refused", "confirm", "from nowhere", "place refused", "row refused"]);
  }, 1_200_000);
});

const quote = (name: string) => `"${name}"`;

function keyOf(table: Table, row: Row, nameOf: (field: Field) => string): string {
  return table.key.map((field) => row[nameOf(field)]).join("/");
}

function canonical(field: Field, value: unknown): unknown {
  return value == null ? null : field.type.canonical(value);
}

/** What a statement can send: values of columns that fit their types. */
function storableValues(table: Table, values: Row): (readonly [Field, unknown])[] {
  return Object.entries(values).flatMap(([name, value]) => {
    const field = table.byName.get(name);
    if (field === undefined || !isOwn(field)) return [];
    return value === null || field.type.fits(value) ? [[field, value] as const] : [];
  });
}

function valuesOf(pairs: readonly (readonly [Field, unknown])[]): Row {
  return Object.fromEntries(pairs.map(([{ name }, value]) => [name, value]));
}

type Outcome =
  | { readonly rows: number; readonly left?: readonly Row[] }
  | { readonly code: string; readonly message: string };

const undo = new Error("undo");

/** How many rows a statement changed and what is then stored, or how it failed. It is undone. */
async function outcomeOf(
  link: Connection,
  { text, params }: { readonly text: string; readonly params: readonly unknown[] },
  table: Table,
  user: string,
): Promise<Outcome> {
  let outcome: Outcome | undefined;
  try {
    await link.transaction(async (inside) => {
      const found = await inside.query(text, params);
      await inside.query("reset role", []);
      outcome = { rows: found.length, left: await inside.query(`select * from ${quote(table.source)}`, []) };
      await inside.query(`set local role ${user}`, []);
      throw undo;
    });
  } catch (error) {
    if (error === undo) return outcome as Outcome;
    const { code, message } = error as { code: string; message: string };
    return { code, message };
  }
  return { rows: -1 };
}
