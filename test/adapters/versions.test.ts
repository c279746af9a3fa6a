import { execFileSync } from "node:child_process";
import { mkdtempSync, readFileSync, rmSync } from "node:fs";
import { join, resolve } from "node:path";
import { build } from "esbuild";
import { expect, it } from "vitest";
import { typechecked } from "../support/typechecked.js";

// The peers come in several major versions: what is built here is built with each of them.

/** A page that a server draws of a snapshot, with the adapter's provider, hooks and components. */
const page = `
import { compile, snapshotOf } from "portier";
import { AccessFields, May, OnScreen, PortierProvider, useAccessForm, useMay, useReach } from "portier/react";
import { createElement as h, version } from "react";
import { renderToString } from "react-dom/server";
const portier = compile({
  portier: 1,
  tables: { objects: { key: "id", fields: { id: "text", label: "text" },
    rules: { shown: { to: "anyone", permit: { view: "all", edit: ["label"] } } } } },
  screens: { objects: { needs: "objects.list" } },
});
const record = { id: "o1", label: "old" };
function Card() {
  const form = useAccessForm("objects", record);
  return h("p", null,
    String(useMay("edit", "objects", record, "label")), " ", useReach("view", "objects", "label"), " ",
    h(May, { action: "delete", table: "objects", record }, "delete"),
    h(OnScreen, { name: "objects" }, "page"),
    h(AccessFields, { form, children: ({ name, control }) => h("input", { key: name, ...control, defaultValue: name }) }));
}
const snapshot = snapshotOf(portier.session());
console.log(version.split(".")[0], renderToString(h(PortierProvider, { snapshot }, h(Card))));
`;

it.each([
  ["18", "test/clients/node_modules"],
  ["19", "node_modules"],
])("draws with React %s", async (major, modules) => {
  const folder = mkdtempSync("test/clients/made-");
  try {
    const outfile = join(folder, "page.mjs");
    await build({
      stdin: { contents: page, resolveDir: resolve("."), loader: "ts" },
      ...{ bundle: true, format: "esm", platform: "node", outfile, logLevel: "error" },
      alias: { react: resolve(modules, "react"), "react-dom": resolve(modules, "react-dom") },
      banner: { js: 'import { createRequire } from "node:module"; const require = createRequire(import.meta.url);' },
    });
    const drawn = execFileSync(process.execPath, [outfile], { encoding: "utf8" });
    expect(drawn).toMatch(new RegExp(`^${major} <p>true(<!-- -->)* (<!-- -->)*all(<!-- -->)* (<!-- -->)*page<input`));
    expect(drawn).not.toContain("delete");
    expect(drawn.match(/<input/g)).toHaveLength(2);
  } finally {
    rmSync(folder, { recursive: true });
  }
});

it("is marked for clients, where a server draws components by itself", () => {
  expect(readFileSync("dist/adapters/react.js", "utf8")).toMatch(/^"use client";/);
});

/** A statement of each kind through both adapters, typed by the builder's own declarations. */
const statements = `
import { Kysely, SqliteDialect } from "kysely";
import type { Portier, Session } from "portier";
import type { Connection } from "portier/database";
import { kyselyTransaction, portierDialect, portierPlugin } from "portier/kysely";
import { sqlite } from "portier/sql";
interface Tables { objects: { id: string; label: string | null } }
declare const portier: Portier;
declare const session: Session;
declare const connection: Connection;
const db = new Kysely<Tables>({ dialect: portierDialect(portier, connection, "s-003") });
const seen = db.withPlugin(portierPlugin(session, sqlite));
export const labels = seen.selectFrom("objects").select("label").execute();
export const joined = db.transaction().execute(async (trx) => kyselyTransaction(trx, sqlite));
export { SqliteDialect };
`;

// Everything else is tested with the version before it.
it("compiles with Kysely 0.29, declarations included", () => {
  expect(typechecked([statements], { paths: { kysely: ["../../../node_modules/kysely-29/dist/index.d.ts"] } })).toBe(
    "",
  );
});
