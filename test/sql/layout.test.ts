import { readFileSync } from "node:fs";
import fc from "fast-check";
import { compile } from "portier";
import { createTables, postgres as postgresDialect, rowSecurity } from "portier/sql";
import { expect, it } from "vitest";
import { embeddedPostgres } from "../../examples/museum/embedded-postgres.mjs";
import { laidOut } from "../../src/sql/row-security/layout.js";
import { portier as museum } from "../support/museum.js";

// A migration is laid out for readers: what the database reads must stay what it was.

const words = [
  "select",
  "a",
  "or",
  "and",
  "from",
  "case",
  "when",
  "then",
  "end",
  "is distinct from",
  "::text[]",
  "||",
  "if",
  ";",
];
const quoted = ["'or, and'", "'it''s -- no (comment'", '"current user"', '"a ""b"" or c"', "E'\\\\'", "'two\nlines'"];
const names = ['"status"', '"select"', '"Keeper"', '"r1"', '"over"'];

/** What the database reads: tokens without the space between them, and names without quotes that they do not need. */
const read = (script: string) =>
  (script.match(/'(?:[^']|'')*'|"(?:[^"]|"")*"|[^\s'"]/g) ?? [])
    .map((token) => (/^"(?:status|r1|over)"$/.test(token) ? token.slice(1, -1) : token))
    .join("");

it("breaks lines between words alone, and takes quotes from names that need none", () => {
  const piece = fc.constantFrom(...words, ...quoted, ...names, "(", ")", ",", "\n");
  fc.assert(
    fc.property(fc.array(piece, { maxLength: 120 }), (pieces) => {
      const script = pieces.join(" ");
      const laid = laidOut(script);
      expect(read(laid)).toBe(read(script));
      expect(laid).not.toMatch(/"(?:status|r1)"(?!")/);
    }),
    { numRuns: 500 },
  );
  expect(laidOut('"status" "select" "Keeper" \'"status"\'')).toBe('status "select" "Keeper" \'"status"\'');
});

it("keeps lines short that can be broken, and comments comments", () => {
  const long = `-- ${"rule of this, ".repeat(20)}\nif ${"(a = 'x' and b = 2) or ".repeat(20)} c then`;
  for (const line of laidOut(long).split("\n")) expect(line.length).toBeLessThanOrEqual(140);
  expect(laidOut(long).match(/^-- /gm)?.length).toBeGreaterThan(1);
});

it("writes the museum's migration as the page on row security shows it", () => {
  const { migration } = rowSecurity(museum, { applications: ["museum_app"] });
  const lines = new Set(migration.split("\n").map((line) => line.trim()));
  const page = readFileSync("docs/row-security.md", "utf8");
  const walk = page.slice(page.indexOf("## How it is made"), page.indexOf("## What it cannot hold"));
  const shown = [...walk.matchAll(/^```sql\n(.*?)^```/gms)].flatMap(([, text = ""]) => text.trim().split("\n"));
  expect(shown.length).toBeGreaterThan(40);
  expect(shown.map((line) => line.trim()).filter((line) => line !== "..." && !lines.has(line))).toEqual([]);
  for (const line of migration.split("\n")) expect(line.length).toBeLessThanOrEqual(160);
});

// Words of SQL and of PL/pgSQL, as what anything of a document may be called.
const spoken = [
  "begin",
  "if",
  "loop",
  "strict",
  "end",
  "old",
  "new",
  "user",
  "order",
  "over",
  "value",
  "row",
  "timestamp",
  "current_user",
  "by",
  "among",
  "any",
  "k",
  "t",
  "r1",
  "common",
  "facts",
];

it("leaves every name what it is, also those that are words of the language", async () => {
  const portier = compile({
    portier: 1,
    people: { table: "select", roles: "role" },
    roles: Object.fromEntries(spoken.map((name) => [name, {}])),
    tables: {
      select: {
        key: "id",
        fields: { id: "text", role: { choice: spoken } },
        rules: { all: { to: "anyone", permit: { view: "all" } } },
      },
      table: {
        key: "from",
        fields: {
          from: "text",
          ...Object.fromEntries(spoken.map((name) => [name, { reference: "select", optional: true }])),
        },
        rules: {
          all: {
            to: spoken,
            where: `"if" is null or "begin" = me`,
            permit: { view: "all", edit: "all", create: "all", delete: "yes" },
          },
        },
      },
    },
  });
  const postgres = await embeddedPostgres();
  for (const statement of createTables(portier.schema, postgresDialect)) await postgres.exec(statement);
  await postgres.exec(`insert into "select" values ('p', 'loop')`);
  await postgres.exec(rowSecurity(portier).migration);
  const run = (statement: string) =>
    postgres.transaction(async (tx) => {
      await tx.query("select portier.set_person('p')");
      return (await tx.query(statement)).rows;
    });
  await run(`insert into portier."table" ("from", "begin") values ('a', 'p')`);
  for (const name of spoken) await run(`update portier."table" set "${name}" = 'p' where "from" = 'a'`);
  const [row] = await run(`select * from portier."table"`);
  expect(row).toEqual({ from: "a", ...Object.fromEntries(spoken.map((name) => [name, "p"])) });
  await run(`delete from portier."table" where "from" = 'a'`);
  expect(await run(`select * from portier."table"`)).toEqual([]);
  await postgres.close();
});
