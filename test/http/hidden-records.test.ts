import fc from "fast-check";
import { compile, type Row } from "portier";
import { accessHandler } from "portier/http";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { printCondition } from "../../src/conditions/printer.js";
import { isOwn, type Table } from "../../src/schema/schema.js";
import { createTables, type Engine, engines, store, storeAll } from "../support/engines.js";
import { documentFrom, filters, groups, items, promised, rules, worlds } from "../support/random-documents.js";
import { runsOf, seedOf } from "../support/runs.js";

// A filter could fail on a record before the list condition had thrown it out, and the status told of what it holds.

const seed = seedOf(1);

const sortable = [
  "title",
  "status",
  "keeper",
  "dept",
  "level",
  "price",
  "due",
  "seen",
  "noted",
  "flag",
  "sum",
  "dept_head",
];
/** What databases cannot work out for some value. */
const failing = [
  ...["due - 3000000 days is null", "due + 2147483647 days is not null", "due - 2147483648 days + 1 day < today"],
  ...["seen - 9007199254740991 minutes is null", "seen + 300000 days > timestamp '2027-01-31T12:00:00Z'"],
  ...["due in (today - 9007199254740991 days, due + 4000000 days)", "not (due between due - 3652058 days and today)"],
];
const queries = fc.record({
  where: fc.array(
    fc.oneof(
      { weight: 3, arbitrary: filters.map(printCondition) },
      { weight: 1, arbitrary: fc.constantFrom(...failing) },
    ),
    { maxLength: 2 },
  ),
  sort: fc.uniqueArray(fc.constantFrom(...sortable.flatMap((name) => [name, `-${name}`])), {
    maxLength: 3,
    selector: (name) => name.replace("-", ""),
  }),
  limit: fc.integer({ min: 0, max: 4 }),
  offset: fc.integer({ min: 0, max: 2 }),
});
type Query = typeof queries extends fc.Arbitrary<infer Q> ? Q : never;

const cases = fc.record({
  drawn: fc.record({ rules: fc.array(rules, { minLength: 1, maxLength: 5 }), groups }),
  world: worlds,
  me: fc.constantFrom("p1", "p2", null),
  items: fc.array(items, { minLength: 5, maxLength: 5 }),
  queries: fc.array(queries, { minLength: 5, maxLength: 5 }),
});

/** Costly conditions, which a database puts off, and fields that filters and sorts have something to do with. */
const listed = fc.constantFrom("id <> 'i2'", "exists (notes where item = this)", "may view keeper").map((where) => ({
  to: "anyone",
  where: `${where} and id <> 'i4'`,
  permit: { list: ["title", "level", "price", "due", "seen", "noted"] },
}));

describe.each(Object.entries(engines))("a list over HTTP on %s", (name, open) => {
  const runs = runsOf(12, name);
  let engine: Engine;
  beforeAll(async () => {
    engine = await open();
    await createTables(engine, compile(documentFrom({ rules: [] })).schema);
  });
  afterAll(() => engine?.close());

  it("is that of a database which holds nothing but what the person sees", async () => {
    let [compared, hiddenOnes, found, pages] = [0, 0, 0, 0];
    await fc.assert(
      fc.asyncProperty(cases, fc.option(listed), async ({ drawn, world, me, items: things, queries: asked }, more) => {
        const portier = compile(documentFrom(more === null ? drawn : { ...drawn, rules: [...drawn.rules, more] }));
        const table = portier.schema.tables.get("items") as Table;
        const given = things.map((row, index) => ({ ...row, id: `i${index + 1}` }));
        const data = await storeAll(engine, portier.schema, { ...world, items: given });
        const open = (rows: Record<string, readonly Row[]>) =>
          portier.session({ person: me, source: portier.source(rows), request: promised });
        const session = open(data);
        const stored = data["items"] ?? [];
        const shown = stored.filter((row) => session.may("list", "items", row));
        // Rules that read records which are hidden would say something else without them.
        const alone = open({ ...data, items: shown });
        fc.pre(shown.every((row) => same(alone.mask("items", row, "list"), session.mask("items", row, "list"))));

        const handle = accessHandler({
          portier,
          connection: engine.connection,
          authenticate: () => ({ person: me, request: promised }),
        });
        const get = async (path: string) => {
          const response = (await handle(new Request(`http://museum${path}`))) as Response;
          return { status: response.status, body: await response.text() };
        };
        const paths = [...asked.map((query) => `/records/items?${search(query)}`), "/exports/items", "/openapi.json"];
        const answers = [];
        for (const path of paths) answers.push(await get(path));
        await store(engine, table, shown);
        for (const [index, path] of paths.entries()) expect(await get(path), path).toEqual(answers[index]);
        hiddenOnes += stored.length - shown.length;

        // And it is what a filter and a sort of the masked records give.
        for (const [index, query] of asked.entries()) {
          const { status, body } = answers[index] as { status: number; body: string };
          if (session.reach("list", "items") !== "none") expect(status, `${paths[index]}: ${body}`).toBe(200);
          if (status !== 200) continue;
          const met = shown.filter((row) => query.where.every((where) => meets(where, seenOf(row))));
          const sorted = session.sort("items", session.maskAll("items", met), query.sort);
          const expected = sorted.slice(query.offset, query.offset + query.limit);
          const answer = JSON.parse(body) as { records: Row[]; total: number };
          expect(answer.total, paths[index]).toBe(met.length);
          expect(
            answer.records.map(({ id }) => id),
            paths[index],
          ).toEqual(expected.map(({ id }) => id));
          compared++;
          found += expected.length;

          // Page after page, each found by its place, gives the same.
          const walked: unknown[] = [];
          for (let after: string | null = ""; after !== null; pages++) {
            const page = search({ ...query, limit: 2, offset: 0 });
            page.append("total", "false");
            if (after !== "") page.append("after", after);
            const more = JSON.parse((await get(`/records/items?${page}`)).body) as {
              records: Row[];
              next: string | null;
            };
            walked.push(...more.records.map(({ id }) => id));
            after = more.next;
          }
          expect(walked, paths[index]).toEqual(sorted.map(({ id }) => id));
        }

        /** What a filter may look at: the record with null for each hidden value. */
        function seenOf(row: Row): Row {
          const fields = table.fields.filter(isOwn);
          return Object.fromEntries(
            fields.map(({ name }) => [name, session.may("list", "items", row, name) ? row[name] : null]),
          );
        }
      }),
      { seed, numRuns: runs, endOnFailure: true },
    );
    expect(compared).toBeGreaterThan(runs / 2);
    expect(hiddenOnes).toBeGreaterThan(runs);
    expect(found).toBeGreaterThan(runs / 5);
    expect(pages).toBeGreaterThan(compared);
  });
});

function same(one: unknown, other: unknown): boolean {
  return JSON.stringify(one) === JSON.stringify(other);
}

function search({ where, sort, limit, offset }: Query): URLSearchParams {
  const asked = new URLSearchParams({ sort: sort.join(","), limit: String(limit), offset: String(offset) });
  for (const one of where) asked.append("where", one);
  return asked;
}

function meets(where: string, row: Row): boolean {
  const portier = compile(documentFrom({ rules: [{ to: ["anyone"], where, permit: { view: ["title"] } }] }));
  return portier.session({ request: promised }).may("view", "items", row, "title");
}
