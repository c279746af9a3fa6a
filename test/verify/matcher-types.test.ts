import { execFileSync } from "node:child_process";
import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { expect, it } from "vitest";

// What an application's own tests are compiled as: with each Vitest that is in use, and no declaration left unchecked.

const use = (vitest: string) => `
import { compile } from "portier";
import { accessFixtures, accessMatchers } from "portier/vitest";
import { expect, test } from "${vitest}";

expect.extend(accessMatchers);
const portier = compile({
  portier: 1,
  tables: { notes: { key: "id", fields: { id: "text" }, rules: { all: { to: "anyone", permit: { view: "all" } } } } },
});
const notes = accessFixtures(portier, { notes: [{ id: "1" }] }, { now: "2026-11-24" });
test("everybody reads", async () => {
  const one = notes.record("notes", "1");
  expect(notes.as()).toPermit("view", "notes", one, "id");
  expect(notes.as()).not.toPermit("edit", "notes");
  expect(notes.as(), "with a message").toPermitExactly("view", "notes", one, ["id"]);
  expect.soft(notes.as()).toPermit("view", "notes");
  await expect(Promise.resolve(notes.as())).resolves.toPermit("view", "notes");
  // @ts-expect-error a table is named by a text
  expect(notes.as()).toPermit("view", 1);
  // @ts-expect-error the fields are missing
  expect(notes.as()).toPermitExactly("view", "notes", one);
});
`;

it.each(["vitest-3", "vitest", "vitest-5"])("compiles with %s, declarations included", (vitest) => {
  const folder = mkdtempSync("test/clients/made-");
  try {
    writeFileSync(join(folder, "use.ts"), use(vitest));
    const options = {
      ...{ strict: true, noEmit: true, skipLibCheck: false },
      ...{
        target: "es2023",
        module: "nodenext",
        lib: ["es2023", "dom", "dom.iterable", "esnext.disposable"],
        types: ["node"],
      },
    };
    writeFileSync(join(folder, "tsconfig.json"), JSON.stringify({ compilerOptions: options, files: ["use.ts"] }));
    let said = "";
    try {
      execFileSync("npx", ["tsc", "-p", folder], { encoding: "utf8", stdio: ["ignore", "pipe", "pipe"] });
    } catch (error) {
      said = (error as { stdout: string }).stdout;
    }
    expect(said).toBe("");
  } finally {
    rmSync(folder, { recursive: true });
  }
});
