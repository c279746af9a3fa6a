import fc from "fast-check";
import { compile, type Row, snapshotOf } from "portier";
import { openSnapshot, type Snapshot } from "portier/snapshot";
import { openSmall } from "portier/snapshot/small";
import { describe, expect, it } from "vitest";
import { as, record } from "../support/museum.js";
import { documentFrom, groups, items, promised, rules, worlds } from "../support/random-documents.js";
import { runsOf, seedOf } from "../support/runs.js";

// What comes back from a store or a network is not always what was put there.

const sent = (snapshot: Snapshot): Snapshot => JSON.parse(JSON.stringify(snapshot));
const fresh = () => snapshotOf(as("s-003"), ["objects"]);
const wrong = (snapshot: unknown, options = {}) => {
  try {
    openSnapshot(snapshot as Snapshot, options);
    return undefined;
  } catch (error) {
    return [(error as { code?: string }).code, (error as Error).message];
  }
};

describe("a snapshot", () => {
  it("says when and by which rules it was made, and is not opened past its end or for other rules", () => {
    const before = new Date().toISOString();
    const made = snapshotOf(as("s-003"), ["objects"], {
      version: "rules 17",
      expiresAt: new Date(Date.now() + 60_000),
    });
    expect(made.madeAt >= before && made.madeAt <= new Date().toISOString()).toBe(true);
    expect(made).toMatchObject({ version: "rules 17" });
    expect(wrong(sent(made), { version: "rules 17" })).toBeUndefined();
    expect(wrong(sent(made), { version: "rules 18" })).toEqual([
      "wrong-call",
      expect.stringMatching(/made by other rules: rules 17, not rules 18/),
    ]);
    expect(wrong(fresh(), { version: "rules 18" })).toEqual([
      "wrong-call",
      expect.stringMatching(/it names none, not rules 18/),
    ]);
    const over = snapshotOf(as("s-003"), ["objects"], { expiresAt: "2020-01-01T00:00:00Z" });
    expect(wrong(over)).toEqual(["wrong-call", expect.stringMatching(/ended at 2020-01-01T00:00:00.000Z/)]);
    // Its end is not a matter of trust between strangers, but it does not get lost on the way.
    const { expiresAt: _, ...endless } = over;
    expect(wrong(endless)?.[1]).toMatch(/damaged/);
  });

  it.each([undefined, null, "", 7, [], {}, { portier: "snapshot 1" }])(
    "that is %j is none, and said to be none",
    (value) => {
      expect(wrong(value)).toEqual(["wrong-call", expect.stringMatching(/not a snapshot of this version/)]);
    },
  );

  it("is the same in any order of its properties", () => {
    const turned = (value: unknown): unknown => {
      if (Array.isArray(value)) return value.map(turned);
      if (typeof value !== "object" || value === null) return value;
      return Object.fromEntries(
        Object.entries(value)
          .reverse()
          .map(([key, one]) => [key, turned(one)]),
      );
    };
    const copy = openSnapshot(turned(sent(fresh())) as Snapshot, { onDiagnostic: () => {} });
    expect(copy.mask("objects", record("objects", "BM-SH-0001"))).toEqual(
      as("s-003").mask("objects", record("objects", "BM-SH-0001")),
    );
  });

  it("is made of what all who are alike share, and of the person's own values that it reads, and no others", () => {
    const portier = compile({
      portier: 1,
      people: { table: "staff" },
      tables: {
        staff: { key: "id", fields: { id: "text", dept: "text", clearance: "integer" } },
        objects: {
          key: "id",
          fields: { id: "text", dept: "text" },
          rules: { own: { to: "signed-in", where: "dept = me.dept", permit: { view: "all" } } },
        },
        vaults: {
          key: "id",
          fields: { id: "text", risk: "integer" },
          rules: { safe: { to: "signed-in", where: "risk < me.clearance", permit: { view: "all" } } },
        },
      },
    });
    const people = ["ships", "maps"].map((dept, index) => ({ id: `s-${index}`, dept, clearance: 70 + index }));
    const made = people.map((person) => snapshotOf(portier.session({ person }), ["objects"]));
    expect(made[0]?.steps["objects"]?.["view"]).toBe(made[1]?.steps["objects"]?.["view"]);
    const told = made.map(({ values, steps, tables }) => ({ values, steps, tables }));
    expect(JSON.stringify(told)).not.toMatch(/7[01]|clearance/);
    const shown = made.map((one) => openSnapshot(sent(one)).maskAll("objects", [{ id: "o-1", dept: "maps" }], "view"));
    expect(shown).toEqual([[], [{ id: "o-1", dept: "maps" }]]);
    // Nobody writes into what others get.
    expect(() => Object.assign(made[0]?.steps["objects"]?.["view"]?.[0] as object, { effect: "deny" })).toThrow(
      TypeError,
    );
  });

  it("that was damaged anywhere is said to be damaged, and never answers", () => {
    // Every place in it: each value that is there, and each list and mapping.
    const places: (readonly (string | number)[])[] = [];
    const walk = (value: unknown, path: readonly (string | number)[]) => {
      if (path.length > 0) places.push(path);
      if (typeof value !== "object" || value === null) return;
      for (const key of Object.keys(value))
        walk((value as Record<string, unknown>)[key], [...path, Array.isArray(value) ? Number(key) : key]);
    };
    const whole = sent(fresh());
    walk(whole, []);
    expect(places.length).toBeGreaterThan(500);
    const damages = fc.constantFrom<unknown>(undefined, null, true, "", "all", 0, [], {});
    const where = fc.integer({ min: 0, max: places.length - 1 });
    let damaged = 0;
    fc.assert(
      fc.property(where, damages, (index, value) => {
        const copy = sent(whole) as unknown as Record<string | number, unknown>;
        const path = places[index] as readonly (string | number)[];
        const owner = path.slice(0, -1).reduce<Record<string | number, unknown>>((at, step) => at[step] as never, copy);
        const last = path.at(-1) as string | number;
        if (JSON.stringify(owner[last]) === JSON.stringify(value)) return;
        if (value === undefined && Array.isArray(owner)) owner.splice(Number(last), 1);
        else if (value === undefined) delete owner[last];
        else owner[last] = value;
        damaged += 1;
        expect(wrong(copy)?.[0]).toBe("wrong-call");
      }),
      { numRuns: runsOf(150) },
    );
    expect(damaged).toBeGreaterThan(100);
  });
});

describe("the small reader of snapshots", () => {
  it("answers as openSnapshot does, or permits less where values are in odd forms, or is not opened", () => {
    const drawn = fc.record({
      rules: rules.map((rule) => [rule]),
      every: fc.constant(undefined),
      sheet: fc.constant([]),
      groups,
    });
    const counts = { opened: 0, refused: 0, permitted: 0, denied: 0 };
    const kinds = new Set<string>();
    fc.assert(
      fc.property(drawn, worlds, items, (one, world, item) => {
        const document = compile(documentFrom(one));
        const source = document.source(world as Record<string, readonly Row[]>);
        for (const person of ["p1", "p2", null]) {
          const session = document.session({ person, source, request: promised, onDiagnostic: () => {} });
          const snapshot = sent(snapshotOf(session, ["items"]));
          const whole = openSnapshot(snapshot, { onDiagnostic: () => {} });
          const small = opened(snapshot, ["items"]);
          counts[small === undefined ? "refused" : "opened"]++;
          if (small === undefined) continue;
          JSON.stringify(snapshot.steps["items"], (key, value) => {
            if (key === "kind") kinds.add(value as string);
            return value as unknown;
          });
          const { fields } = document.schema.tables.get("items") as never as { fields: readonly Shape[] };
          const own = fields.filter(({ by, lookup }) => by === undefined && lookup === undefined);
          const odd = item as Row;
          const usual = Object.fromEntries(
            own.map(({ name, type }) => [name, type.fits(odd[name]) ? odd[name] : null]),
          );
          for (const record of [odd, usual]) {
            for (const action of ["list", "view", "edit", "export", "bulk", "create", "import", "delete"] as const) {
              const asked = action === "delete" ? [undefined] : [undefined, ...own.map(({ name }) => name)];
              for (const field of asked) {
                const [less, more] = [small, whole].map((of) => of.may(action, "items", record, field));
                expect(less && !more, `${action} ${field}`).toBe(false);
                if (record === usual) expect([action, field, less]).toEqual([action, field, more]);
                counts[less ? "permitted" : "denied"]++;
              }
            }
            for (const action of ["list", "view", "export"] as const) {
              const [less, more] = [small, whole].map((of) => of.mask("items", record, action) ?? {}) as [Row, Row];
              expect(Object.keys(more)).toEqual(expect.arrayContaining(Object.keys(less)));
              if (record === usual)
                expect(Object.keys(less)).toEqual(own.map(({ name }) => name).filter((name) => name in more));
            }
          }
        }
      }),
      { seed: seedOf(3), numRuns: runsOf(90) },
    );
    for (const [what, count] of Object.entries(counts)) expect(count, what).toBeGreaterThan(20);
    for (const kind of [
      "truth",
      "and",
      "or",
      "not",
      "compare",
      "in",
      "in-list",
      "is-null",
      "belongs",
      "field",
      "constant",
    ])
      expect(kinds, kind).toContain(kind);
    expect(kinds, "a value that comes along").toContain("request");
  });

  it("is not opened for a table that is not there, and says what a table needs more for", () => {
    const snapshot = sent(snapshotOf(as("s-003")));
    expect(() => openSmall(snapshot, ["gone"])).toThrow('table "gone" is not open');
    expect(() => openSmall(snapshot, ["plan"])).toThrow("needs openSnapshot");
    expect(() => openSmall({ ...snapshot, roles: ["director"] }, [])).toThrow("damaged");
  });
});

interface Shape {
  readonly name: string;
  readonly by: unknown;
  readonly lookup: unknown;
  readonly type: { fits(value: unknown): boolean };
}

function opened(snapshot: Snapshot, names: readonly string[]) {
  try {
    return openSmall(snapshot, names);
  } catch (error) {
    expect((error as Error).message).toMatch(/needs openSnapshot/);
    return undefined;
  }
}
