import fc from "fast-check";
import { compile, type DocumentInput, type Row } from "portier";
import { maskedSelect, rowSecurity, where } from "portier/sql";
import { afterAll, beforeAll, describe, expect, it } from "vitest";
import { createTables, type Engine, engines, store } from "../support/engines.js";
import { runsOf } from "../support/runs.js";

// Names and values that would change a statement if they ever became part of its text unquoted.
const pieces = ["'", '"', "`", "\\", "--", "/*", "*/", ";", "$1", "?", "%", "_", "\\u0027", "{", "a", " ", "\u{1f6a2}"];
const nasty = fc.array(fc.constantFrom(...pieces), { minLength: 1, maxLength: 6 }).map((parts) => parts.join(""));
const values = fc.oneof(nasty, fc.constantFrom("a\u0000b", "\ud800", "'; drop table staff; --", "' or '1'='1"));

const table = `a "b" 'c' \`d\` $1 ? \\ ; --`;
const field = `x"y'z\`w $2 ? \\ /*`;
const view = `v "x" '$portier$ \\ %s`;
const quoted = (text: string) => `'${text.replaceAll("'", "''")}'`;

function documentOf(value: string): DocumentInput {
  const reads = `"${field.replaceAll('"', '""')}"`;
  return {
    portier: 1,
    request: { sought: "text" },
    tables: {
      [table]: {
        key: "id",
        fields: { id: "text", [field]: { type: "text", optional: true }, kind: { choice: ["a", "';--"] } },
        rules: {
          written: { to: "anyone", where: `${reads} = ${quoted(value)}`, permit: { list: [field] } },
          asked: { to: "anyone", where: `${reads} contains request.sought`, permit: { view: ["kind"] } },
          like: { to: "anyone", where: `${reads} like request.sought`, permit: { delete: "yes" } },
        },
      },
    },
  };
}

describe.each(Object.entries(engines))("on %s names and values never change a statement", (name, open) => {
  let engine: Engine;
  beforeAll(async () => {
    engine = await open();
    await createTables(engine, compile(documentOf("a")).schema);
  });
  afterAll(async () => {
    const tables = engine?.schema ?? "public";
    await engine?.script?.(rowSecurity(compile(documentOf("a")), { schema: view, tables }).removal);
    await engine?.close();
  });

  const shapes = new Set<string>();

  it("whatever they are made of", async () => {
    await fc.assert(
      fc.asyncProperty(values, values, fc.array(nasty, { maxLength: 3 }), async (written, sought, stored) => {
        const portier = compile(documentOf(written));
        const declared = portier.schema.tables.get(table);
        if (declared === undefined) throw new Error("no table");
        const given: Row[] = [written, sought, ...stored].map((text, index) => ({
          id: `${index}`,
          [field]: /[\0\ud800]/.test(text) ? null : text,
          kind: index % 2 === 0 ? "a" : "';--",
        }));
        const rows = await store(engine, declared, given);
        const session = portier.session({ request: { sought } });
        for (const action of ["list", "view", "delete"]) {
          const { text, params } = where(session, table, action, engine.dialect);
          const source = engine.dialect.quoteName(table);
          const found = await engine.run(`select id from ${source} where ${text}`, params);
          const expected = rows.filter((row) => session.may(action, table, row));
          expect(found.map((row) => row["id"]).sort()).toEqual(expected.map((row) => row["id"]).sort());
          if (![written, sought].some((one) => /[\0\ud800]/.test(one))) shapes.add(text);
        }
        const { text, params, unmask } = maskedSelect(session, table, engine.dialect);
        const seen = (await engine.run(text, params)).map(unmask);
        expect(seen).toEqual(rows.map((row) => session.mask(table, row, "list")).filter((row) => row !== undefined));
        if (engine.script === undefined || /[\0\ud800]/.test(sought)) return;

        // As row security, where values are written out.
        const tables = engine.schema ?? "public";
        await engine.script(rowSecurity(portier, { schema: view, tables }).migration);
        const quote = engine.dialect.quoteName;
        const shown = await engine.connection.transaction(async (link) => {
          await link.query(`select ${quote(view)}.set_person(null, $1)`, [JSON.stringify({ sought })]);
          return link.query(`select * from ${quote(view)}.${quote(table)} order by id`, []);
        });
        const listed = seen.map((row) => ({ id: row["id"], [field]: row[field] ?? null, kind: row["kind"] ?? null }));
        expect(shown).toEqual(listed.sort((a, b) => (String(a.id) < String(b.id) ? -1 : 1)));
      }),
      { numRuns: runsOf(80, name) },
    );
    // One text for each action: what a value is made of does not show in it.
    expect(shapes.size).toBe(3);
  });
});
