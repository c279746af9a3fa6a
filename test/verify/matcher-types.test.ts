import { expect, it } from "vitest";
import { compilers, typechecked } from "../support/typechecked.js";

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

it.each([
  { vitest: ["vitest-3"], compiler: "5.9" },
  { vitest: ["vitest", "vitest-5"], compiler: "7" },
] as const)("compiles with $vitest by TypeScript $compiler, declarations included", ({ vitest, compiler }) => {
  expect(typechecked(vitest.map(use), {}, compilers[compiler])).toBe("");
});
