import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import fc from "fast-check";
import { afterAll, describe, expect, it } from "vitest";
import { waitForCli } from "../support/cli.js";
import { seedOf } from "../support/runs.js";

const seed = seedOf(580417333);

// What a database holds is in the document, or is named with a reason: nothing is missing without a line. Of a schema that is
// drawn it is known what it holds; each dialect's script is written from it, and read by the command.

const folder = mkdtempSync(join(tmpdir(), "portier-catalogue-"));
afterAll(() => rmSync(folder, { recursive: true }));

type Dialect = "postgres" | "mariadb" | "sqlite";

interface Column {
  readonly name: string;
  readonly type: "text" | "int" | "bytes" | "price";
  readonly isRequired: boolean;
}

interface Reference {
  readonly columns: readonly string[];
  readonly table: string;
  readonly target: readonly string[];
}

interface Drawn {
  readonly name: string;
  readonly columns: readonly Column[];
  readonly primary: readonly string[];
  /** A code that is unique and never null. */
  readonly hasCode: boolean;
  readonly references: readonly Reference[];
}

const kinds = [
  "to the primary key",
  "to a unique key",
  "of the own key",
  "to itself",
  "to a missing table",
  "of two columns",
  "twice",
  "of bytes",
] as const;
type Kind = (typeof kinds)[number];

const columnTypes = fc.constantFrom<Column["type"]>("text", "int", "bytes", "price");
const tableShapes = fc.record({
  more: fc.array(fc.record({ type: columnTypes, isRequired: fc.boolean() }), { maxLength: 4 }),
  primary: fc.constantFrom("id", "id", "id", "pair", "pair", "none"),
  hasCode: fc.boolean(),
  references: fc.array(fc.record({ kind: fc.constantFrom<Kind>(...kinds), to: fc.nat(39) }), { maxLength: 3 }),
});

/** Tables of which each may refer to any before it, and what kinds of references came up. */
function drawn(count: number): { readonly tables: readonly Drawn[]; readonly seen: ReadonlySet<Kind> } {
  const shapes = fc.sample(tableShapes, { seed, numRuns: count });
  const seen = new Set<Kind>();
  const tables: Drawn[] = [];
  for (const [index, shape] of shapes.entries()) {
    const name = `t${index}`;
    const columns: Column[] = shape.more.map((one, at) => ({ name: `c${at}`, ...one }));
    const primary = { id: ["id"], pair: ["id", "part"], none: [] }[shape.primary] ?? [];
    for (const key of primary.length === 0 ? ["id"] : primary)
      columns.unshift({ name: key, type: "int", isRequired: true });
    if (shape.hasCode) columns.push({ name: "code", type: "text", isRequired: true });
    const references: Reference[] = [];
    for (const [at, { kind, to }] of shape.references.entries()) {
      const other = tables[to % Math.max(1, tables.length)];
      const add = (type: Column["type"]) => {
        columns.push({ name: `r${at}`, type, isRequired: false });
        return `r${at}`;
      };
      const made = ((): Reference[] => {
        if (kind === "to a missing table") return [{ columns: [add("int")], table: "gone", target: ["id"] }];
        if (kind === "to itself" && primary.length === 1)
          return [{ columns: [add("int")], table: name, target: primary }];
        if (other === undefined) return [];
        if (kind === "to a unique key" && other.hasCode)
          return [{ columns: [add("text")], table: other.name, target: ["code"] }];
        if (other.primary.length === 1) {
          const target = { table: other.name, target: other.primary };
          if (kind === "to the primary key") return [{ columns: [add("int")], ...target }];
          if (kind === "of the own key" && primary.length === 1 && at === 0) return [{ columns: primary, ...target }];
          if (kind === "twice" && primary.length === 1) {
            const column = add("int");
            return [
              { columns: [column], ...target },
              { columns: [column], table: name, target: primary },
            ];
          }
        }
        if (kind === "of two columns" && other.primary.length === 2) {
          columns.push({ name: `r${at}b`, type: "int", isRequired: false });
          return [{ columns: [add("int"), `r${at}b`], table: other.name, target: other.primary }];
        }
        return [];
      })();
      if (made.length > 0) seen.add(kind);
      references.push(...made);
    }
    if (columns.some(({ type }) => type === "bytes")) seen.add("of bytes");
    tables.push({ name, columns, primary, hasCode: shape.hasCode, references });
  }
  return { tables, seen };
}

const typeNames: Readonly<Record<Dialect, Readonly<Record<Column["type"], string>>>> = {
  postgres: { text: "text", int: "integer", bytes: "bytea", price: "numeric(10,2)" },
  mariadb: { text: "varchar(20)", int: "int(11)", bytes: "blob", price: "decimal(10,2)" },
  sqlite: { text: "text", int: "integer", bytes: "real", price: "decimal(10,2)" },
};

/** As a dump of the dialect writes it. */
function scriptOf(tables: readonly Drawn[], dialect: Dialect): string {
  const quote = (name: string) => (dialect === "mariadb" ? `\`${name}\`` : `"${name}"`);
  const list = (names: readonly string[]) => `(${names.map(quote).join(", ")})`;
  const foreign = ({ columns, table, target }: Reference) =>
    `foreign key ${list(columns)} references ${dialect === "postgres" ? `public.${quote(table)}` : quote(table)} ${list(target)}`;
  const statements = tables.map(({ name, columns, primary, hasCode, references }) => {
    const lines = [
      ...columns.map(
        (one) => `${quote(one.name)} ${typeNames[dialect][one.type]}${one.isRequired ? " NOT NULL" : " DEFAULT NULL"}`,
      ),
      ...(primary.length === 0 ? [] : [`PRIMARY KEY ${list(primary)}`]),
      ...(hasCode
        ? [dialect === "mariadb" ? `UNIQUE KEY ${quote(`${name}_code`)} ${list(["code"])}` : `UNIQUE ${list(["code"])}`]
        : []),
      ...(dialect === "postgres"
        ? []
        : references.map((one, at) => `CONSTRAINT ${quote(`${name}_${at}`)} ${foreign(one)}`)),
    ];
    const create = `CREATE TABLE ${dialect === "postgres" ? "public." : ""}${quote(name)} (\n  ${lines.join(",\n  ")}\n)`;
    if (dialect === "postgres") {
      return `${create};\nALTER TABLE public.${quote(name)} OWNER TO museum;\nCOPY public.${quote(name)} (id) FROM stdin;\n1;'\n$$\n\\.\n`;
    }
    if (dialect === "mariadb")
      return `${create} ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;\n/*!40000 ALTER TABLE ${quote(name)} DISABLE KEYS */;`;
    return `${create};`;
  });
  const later = tables.flatMap(({ name, references }) =>
    dialect === "postgres"
      ? references.map(
          (one, at) => `ALTER TABLE ONLY public.${quote(name)} ADD CONSTRAINT ${name}_${at} ${foreign(one)};`,
        )
      : [],
  );
  const head = {
    postgres: "\\restrict x1\nSET transaction_timeout = 0;\nSELECT pg_catalog.set_config('search_path', '', false);",
    mariadb: "-- MariaDB dump 10.19\n/*!40101 SET NAMES utf8mb4 */;",
    sqlite: "PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;",
  };
  const foot = { postgres: "\\unrestrict x1", mariadb: "-- Dump completed", sqlite: "COMMIT;" };
  return [head[dialect], ...statements, ...later, foot[dialect]].join("\n");
}

interface Answer {
  readonly document: {
    readonly tables: Readonly<
      Record<
        string,
        { readonly key: unknown; readonly fields: Readonly<Record<string, string | Readonly<Record<string, unknown>>>> }
      >
    >;
  };
  readonly counts: Readonly<Record<string, { readonly found: number; readonly declared: number }>>;
  readonly leftOut: readonly string[];
}

describe.each(["postgres", "mariadb", "sqlite"] as const)("a script of %s", (dialect) => {
  it("gives a document in which nothing is missing without a line", { timeout: 120_000 }, async () => {
    const { tables, seen } = drawn(120);
    expect([...seen].sort()).toEqual([...kinds].sort());
    const file = join(folder, `${dialect}.sql`);
    writeFileSync(file, scriptOf(tables, dialect));
    const { code, out, err } = await waitForCli(["import", file, "--format", "json"]);
    expect(code, err).toBe(0);
    const { document, counts, leftOut } = JSON.parse(out) as Answer;

    // In PostgreSQL a reference to a table that is not there cannot be made, and its statement is named.
    const references = tables.flatMap(({ references: own }) => own);
    const unmade = dialect === "postgres" ? references.filter(({ table }) => table === "gone").length : 0;
    const notes = leftOut.filter((line) => line.startsWith("line "));
    expect(notes).toHaveLength(unmade);
    expect(counts).toMatchObject({
      tables: { found: tables.length },
      columns: { found: tables.reduce((all, { columns }) => all + columns.length, 0) },
      "foreign keys": { found: references.length - unmade },
    });

    const named = (start: string) => leftOut.filter((line) => line.startsWith(start));
    for (const { name, columns, primary, hasCode, references: own } of tables) {
      const table = document.tables[name];
      expect(table === undefined, name).toBe(primary.length === 0 && !hasCode);
      expect(named(`table "${name}":`)).toHaveLength(table === undefined ? 1 : 0);
      if (table === undefined) continue;
      for (const column of columns) {
        const isDeclared = column.name in table.fields;
        expect(named(`column "${column.name}" of "${name}":`), `${name}.${column.name}`).toHaveLength(
          isDeclared ? 0 : 1,
        );
        expect(isDeclared).toBe(column.type !== "bytes");
      }
      for (const { columns: from, table: to } of own.filter((one) => unmade === 0 || one.table !== "gone")) {
        const by = Object.values(table.fields).filter((field) => typeof field === "object" && "by" in field);
        const fields = from.length > 1 ? by : [table.fields[from[0] as string]];
        const refers = fields.some((field) => typeof field === "object" && field["reference"] === to);
        const lines = named(`foreign key (${from.join(", ")}) of "${name}":`);
        expect(refers || lines.length > 0, `${name} (${from.join(", ")}) to ${to}`).toBe(true);
      }
      // The key is the one to which most references lead.
      const leading = (target: string) =>
        references.filter((one) => one.table === name && one.target.join() === target).length;
      if (hasCode && primary.length > 0)
        expect(table.key).toEqual(
          leading("code") > leading(primary.join()) ? "code" : primary.length === 1 ? primary[0] : primary,
        );
    }
    // Each line is of one thing, and what is counted as left out has one.
    const isLeftOut = Object.values(counts).reduce((all, { found, declared }) => all + found - declared, 0);
    const gone = tables.filter(({ name }) => document.tables[name] === undefined);
    const within = gone.reduce((all, { columns, references: own }) => all + columns.length + own.length, 0);
    expect(leftOut.length - notes.length).toBe(
      isLeftOut -
        within +
        (dialect === "postgres"
          ? gone.flatMap(({ references: own }) => own).filter(({ table }) => table === "gone").length
          : 0),
    );
  });
});
