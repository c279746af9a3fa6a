import { execFileSync } from "node:child_process";
import { readFileSync } from "node:fs";
import fc from "fast-check";
import { type CompiledDocument, compile, compiledOf, type Portier, type Row, type Session, snapshotOf } from "portier";
import { openCompiled } from "portier/compiled";
import { compileText } from "portier/document";
import { explain } from "portier/explain";
import * as functions from "portier/functions";
import { checkEdit as checkInSnapshot } from "portier/snapshot";
import { expect, it } from "vitest";
import { portierCli } from "../support/cli.js";
import { portier as museum, museumFile, museumFolder, source as museumSource, records } from "../support/museum.js";
import {
  documentFrom,
  everyRules,
  groups,
  items,
  promised,
  proposals,
  rules,
  sheetRules,
  tables,
  worlds,
} from "../support/random-documents.js";
import { runsOf, seedOf } from "../support/runs.js";

// A document that was compiled, sent as JSON and opened is the document: all that is left of its rules for each person is
// the same, to the last condition, and so is what the document itself says beside them.

function sent(portier: Portier): CompiledDocument {
  return JSON.parse(JSON.stringify(compiledOf(portier)));
}

/** All that is left of the rules for a person, and what does not stand in that. */
function leftOf(session: Session) {
  const { madeAt: _, check: __, ...left } = snapshotOf(session);
  const names = Object.keys(left.steps);
  const actions = ["list", "view", "edit", "create", "delete", "export", "import", "bulk"] as const;
  const reach = names.flatMap((table) => actions.map((action) => session.reach(action, table)));
  return { left, reach, screens: session.screens(), home: session.home(), roles: session.roles };
}

it("is the same for everybody in the museum, at any time", () => {
  // Of its own: what was asked before of one that is shared adds parameters to its plans.
  const fresh = compileText(readFileSync(museumFile, "utf8"));
  const opened = openCompiled(sent(fresh));
  expect(opened.schema.roles.get("lead")).toMatchObject({ scope: "exhibitions", assignableBy: [{ name: "director" }] });
  for (const instant of ["2026-11-24T09:00:00Z", "2027-08-01T09:00:00Z"]) {
    for (const person of [null, ...records("staff").map(({ id }) => id as string)]) {
      const open = (portier: Portier) =>
        portier.session({ person, source: museumSource, request: { now: instant }, onDiagnostic: () => {} });
      expect(leftOf(open(opened))).toEqual(leftOf(open(fresh)));
    }
  }
});

it("answers as the document does, whatever its rules", () => {
  const drawn = fc.record({
    rules: fc.array(rules, { minLength: 1, maxLength: 7 }),
    every: fc.option(everyRules, { nil: undefined, freq: 3 }),
    sheet: fc.array(sheetRules, { maxLength: 3 }),
    groups,
  });
  const counts = { permitted: 0, refused: 0, roles: 0 };
  fc.assert(
    fc.property(drawn, worlds, items, proposals, (one, world, item, proposal) => {
      const document = compile(documentFrom(one));
      const opened = openCompiled(sent(document));
      const data = { ...world, items: [{ id: "i1" }, { id: "i2" }], sheet: [{ id: "s1" }] } as Record<string, Row[]>;
      const source = document.source(data);
      for (const person of ["p1", "p2", null]) {
        const open = (portier: Portier) =>
          portier.session({ person, source, request: promised, onDiagnostic: () => {} });
        const [ours, theirs] = [open(opened), open(document)];
        expect(leftOf(ours)).toEqual(leftOf(theirs));
        for (const field of Object.keys(tables.items.fields)) {
          const decision = ours.decide("edit", "items", item, field);
          expect(decision).toEqual(theirs.decide("edit", "items", item, field));
          counts[decision.permitted ? "permitted" : "refused"]++;
        }
        expect(ours.checkEdit("items", item, proposal)).toEqual(theirs.checkEdit("items", item, proposal));
        const why = { action: "view", table: "items", record: item, field: "title" } as const;
        expect(explain(ours, why)).toEqual(explain(theirs, why));
        // The functions of a bundle are those of the class, and judge changes of who holds what as it does.
        const options = { person, source, request: promised, onDiagnostic: () => {} };
        const rules = functions.openCompiled(sent(document));
        const lean = functions.openSession(rules, { ...options, source: functions.source(rules, data) });
        const clerks = functions.sessionForRoles(rules, ["clerk"], { request: promised });
        const theirClerks = document.sessionForRoles(["clerk"], { request: promised });
        expect(functions.reach(clerks, "edit", "items")).toBe(theirClerks.reach("edit", "items"));
        const colleague = world.staff?.[0] as Row;
        const raised = { post: colleague["post"] === "senior" ? "junior" : "senior" };
        const asked = {
          decide: ["view", "items", item, "title"],
          may: ["edit", "items", item, "title"],
          mask: ["items", item],
          maskAll: ["items", [item]],
          form: ["items", item],
          choices: ["items", "status", item],
          reach: ["edit", "items"],
          screens: [],
          home: [],
          checkBulkEdit: ["items", [item], proposal],
          checkImport: ["items", [proposal]],
          checkCreate: ["items", proposal],
          checkDelete: ["items", item],
          checkAction: ["approve", "items", item],
          checkEdit: ["staff", colleague, raised],
        } as const;
        for (const [name, given] of Object.entries(asked)) {
          const by = (of: object) => (of as Record<string, (...given: readonly unknown[]) => unknown>)[name];
          const answer = by(functions)?.(lean, ...given);
          expect([name, answer]).toEqual([name, by(theirs)?.call(theirs, ...given)]);
          if (name === "checkEdit" && JSON.stringify(answer).includes("role-change")) counts.roles++;
        }
      }
    }),
    { seed: seedOf(1), numRuns: runsOf(24) },
  );
  for (const [what, count] of Object.entries(counts)) expect(count, what).toBeGreaterThan(what === "roles" ? 0 : 10);
});

it("keeps a default whatever it looks like", () => {
  const odd = {
    $set: 1,
    $field: ["staff", "id"],
    table: "t",
    index: 0,
    column: "c",
    canonical: true,
    __proto__x: null,
  };
  const document = compile({
    portier: 1,
    tables: {
      t: {
        key: "id",
        fields: { id: "text", odd: { type: "json", default: odd, optional: true } },
        rules: { all: { to: "anyone", permit: { create: "all", view: "all" } } },
      },
    },
  });
  const created = (portier: Portier) => portier.session().checkCreate("t", { id: "1" });
  expect(created(openCompiled(sent(document)))).toEqual(created(document));
  expect(created(document)).toMatchObject({ record: { odd } });
});

it("is printed by the command, and of a file with mistakes nothing is", () => {
  const { code, out } = portierCli(["compile", museumFile]);
  expect([code, JSON.parse(out)]).toEqual([0, sent(museum)]);
  const mistaken = portierCli(["compile", `${museumFolder}museum.roles.json`]);
  expect([mistaken.code, mistaken.out]).toEqual([2, ""]);
});

it.each<[string, (document: CompiledDocument) => unknown]>([
  ["nothing", () => undefined],
  ["another thing", () => ({ portier: 1, tables: {} })],
  ["of another version", (document) => ({ ...document, portier: "compiled 0" })],
  ["cut", (document) => ({ ...document, tables: document.tables.slice(1) })],
  ["changed", (document) => JSON.parse(JSON.stringify(document).replaceAll("registrar", "assistant"))],
])("is not opened: %s", (_what, spoil) => {
  expect(() => openCompiled(spoil(sent(museum)) as CompiledDocument)).toThrow(/compiled document|damaged/);
});

it("says errors in sentences where these are taken along, and else by their code and names", () => {
  const said = (...taken: readonly string[]) => {
    const program = `${taken.map((name) => `import "portier/${name}";`).join("")}
      import { compile, may, openSession } from "portier/functions";
      const rules = compile({ portier: 1, tables: { loans: { key: "id", fields: { id: "text" } } } });
      try { may(openSession(rules), "view", "loan", {}); } catch (error) { console.log(error.message); }`;
    return execFileSync(process.execPath, ["--input-type=module", "-e", program], { encoding: "utf8" }).trim();
  };
  expect(said()).toBe("unknown-table  loan");
  expect(said("messages")).toBe('unknown-table  Unknown table "loan". Did you mean "loans"?');
});

it("judges no change by the functions of snapshots, which cannot tell who may assign a role, and says so", () => {
  const told: string[] = [];
  const options = {
    person: "s-003",
    source: museumSource,
    onDiagnostic: ({ message }: { message: string }) => told.push(message),
  };
  const [staff] = records("staff");
  const change = { phone: "1" };
  const lean = () => functions.openSession(functions.openCompiled(sent(museum)), options);
  expect(checkInSnapshot(lean(), "staff", staff, change)).toMatchObject({ accepted: false, reason: "fault" });
  expect(told.join()).toContain("portier/functions");
  expect(functions.checkEdit(lean(), "staff", staff, change)).toEqual(
    museum.session(options).checkEdit("staff", staff, change),
  );
});

interface Loan {
  id: string;
  lender: string;
}

interface Loans {
  readonly tables: { readonly loans: { readonly row: Loan; readonly action: "approve" } };
}

it("knows the tables of typed documents in functions, and any session passes for one that knows none", () => {
  const document = {
    portier: 1,
    tables: {
      loans: {
        key: "id",
        fields: { id: "text", lender: "text" },
        rules: { all: { to: "anyone", permit: { view: "all" } } },
      },
    },
  } as const;
  const lean = functions.openSession(functions.compile<Loans>(document as never));
  const loan: Loan = { id: "l-1", lender: "Brackwater" };
  const row: Row = { ...loan };
  expect(functions.may(lean, "view", "loans", row, "lender")).toBe(true);
  expect(functions.mask(lean, "loans", row)?.lender).toBe("Brackwater");
  // @ts-expect-error there is no such table
  expect(() => functions.may(lean, "view", "lones", row)).toThrow("lones");
  // @ts-expect-error there is no such field
  expect(() => functions.may(lean, "view", "loans", row, "lendr")).toThrow("lendr");
  const reachOf = (session: Session) => session.reach("view", "loans");
  expect(reachOf(compile<Loans>(document as never).session())).toBe("all");
});
