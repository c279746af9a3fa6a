import fc from "fast-check";
import { type Acceptance, actionNames, compile, type Row, type RuleInput, type Session } from "portier";
import { explain } from "portier/explain";
import { describe, expect, it } from "vitest";
import { departments, house, items, now, proposals, rules, staff, tables } from "../support/house.js";
import { Naive } from "../support/naive.js";

const runs = Number(process.env["PORTIER_RUNS"] ?? 4_000);
const fields = Object.keys(tables.items.fields);

const cases = fc.record({
  rules: fc.array(rules, { minLength: 1, maxLength: 7 }),
  staff,
  departments,
  me: fc.constantFrom("p1", "p2", "p3", "stranger", undefined),
  item: items,
  proposal: proposals,
});

interface Case {
  readonly rules: readonly RuleInput[];
  readonly staff: readonly Row[];
  readonly departments: readonly Row[];
  readonly me: string | undefined;
}

function open({ rules: drawn, staff: people, departments: depts, me }: Case): Session {
  const portier = compile(house(drawn));
  const source = portier.source({ staff: people, depts, items: [{ id: "i1" }, { id: "i2" }] });
  return portier.session({ ...(me === undefined ? {} : { person: me }), source, request: { now } });
}

function naive({ rules: drawn, staff: people, departments: depts, me }: Case): Naive {
  const { tables: declared } = house(drawn);
  const rulesOf = (table: string) => (declared[table]?.rules ?? {}) as Record<string, Record<string, unknown>>;
  return new Naive({
    rules: rulesOf("items"),
    staffRules: rulesOf("staff"),
    deptRules: rulesOf("depts"),
    staff: people,
    depts,
    me,
  });
}

/** The same words as the naive evaluator's. */
function outcome(acceptance: Acceptance): string {
  if (acceptance.accepted) return "ok";
  if (acceptance.reason !== "refused") return acceptance.reason;
  return acceptance.refusals
    .map(({ field }) => field ?? "act")
    .sort()
    .join(",");
}

/** Everything that a session says about a record, to compare two sessions by. */
function answers(session: Session, item: Row): Record<string, boolean> {
  const found: Record<string, boolean> = {};
  for (const action of ["list", "view", "edit"] as const) {
    for (const field of fields) found[`${action} ${field}`] = session.may(action, "items", item, field);
  }
  for (const action of ["delete", "create"] as const) found[action] = session.may(action, "items", item);
  return found;
}

describe("the library and a plain second reading of the model agree", () => {
  it("on what is seen, what may be tried, and what may be deleted", () => {
    fc.assert(
      fc.property(cases, (one) => {
        const session = open(one);
        const model = naive(one);
        for (const action of ["list", "view"] as const) {
          for (const field of fields) {
            const expected = model.seesField("items", action, one.item, field);
            expect(session.may(action, "items", one.item, field), `${action} ${field}`).toBe(expected);
          }
          expect(session.may(action, "items", one.item), action).toBe(model.seesRecord("items", action, one.item));
          expect(session.mask("items", one.item, action)).toEqual(model.mask(action, one.item));
        }
        for (const field of fields) {
          expect(session.may("edit", "items", one.item, field), `edit ${field}`).toBe(model.mayTry(one.item, field));
        }
        expect(session.may("delete", "items", one.item)).toBe(model.mayDelete(one.item));
      }),
      { numRuns: runs },
    );
  });

  it("on changes and new records, to the last refused field", () => {
    fc.assert(
      fc.property(cases, (one) => {
        const session = open(one);
        const model = naive(one);
        expect(outcome(session.accept("edit", "items", one.item, one.proposal))).toBe(
          model.edit(one.item, one.proposal),
        );
        expect(outcome(session.accept("create", "items", one.proposal))).toBe(model.create(one.proposal));
      }),
      { numRuns: runs },
    );
  });

  it("on the promises of reach", () => {
    fc.assert(
      fc.property(cases, (one) => {
        const session = open(one);
        for (const action of actionNames) {
          for (const field of action === "delete" ? [undefined] : [undefined, ...fields]) {
            const reach = session.reach(action, "items", field);
            const permitted = session.may(action, "items", one.item, field);
            if (reach === "none") expect(permitted, `${action} ${field}`).toBe(false);
            if (reach === "all") expect(permitted, `${action} ${field}`).toBe(true);
            if (reach === "own" && permitted) expect(one.item["keeper"], `${action} ${field}`).toBe(one.me);
          }
        }
      }),
      { numRuns: runs },
    );
  });
});

describe("rules", () => {
  it("mean the same in any order", () => {
    fc.assert(
      fc.property(cases, (one) => {
        const turned = { ...one, rules: [...one.rules].reverse() };
        expect(answers(open(turned), one.item)).toEqual(answers(open(one), one.item));
      }),
      { numRuns: runs / 4 },
    );
  });

  it("that deny win over whatever permits", () => {
    const wall: RuleInput = { deny: { list: "all", view: "all", create: "all", edit: "all", delete: "yes" } };
    fc.assert(
      fc.property(cases, (one) => {
        const session = open({ ...one, rules: [...one.rules, wall] });
        expect(Object.values(answers(session, one.item)).some(Boolean)).toBe(false);
        expect(actionNames.map((action) => session.reach(action, "items"))).toEqual(actionNames.map(() => "none"));
      }),
      { numRuns: runs / 4 },
    );
  });

  it("that permit never take anything away when they are added", () => {
    fc.assert(
      fc.property(
        cases,
        rules.filter((rule) => rule.permit !== undefined),
        (one, added) => {
          const before = answers(open(one), one.item);
          const after = answers(open({ ...one, rules: [...one.rules, added] }), one.item);
          for (const [question, permitted] of Object.entries(before)) {
            if (permitted) expect(after[question], question).toBe(true);
          }
        },
      ),
      { numRuns: runs / 4 },
    );
  });
});

describe("an explanation", () => {
  it("never contradicts the decision, and names the rule that decided among those that apply", () => {
    fc.assert(
      fc.property(
        cases,
        fc.constantFrom(...fields),
        fc.constantFrom("list" as const, "view" as const, "edit" as const),
        (one, field, action) => {
          const session = open(one);
          const { decision, rules: traces } = explain(session, { action, table: "items", record: one.item, field });
          expect(decision).toEqual(session.decide(action, "items", one.item, field));
          const named = traces.filter((trace) => trace.rule === decision?.rule).map((trace) => trace.applies);
          if (decision?.rule !== undefined) expect(named.some((applies) => applies !== "no")).toBe(true);
          const applying = traces.filter((trace) => trace.applies === "yes").map((trace) => trace.effect);
          const known = decision?.reason !== "not-found" && field !== "id";
          if (known && applying.some((effect) => effect !== "permit")) expect(decision?.permitted).toBe(false);
          else if (known && applying.includes("permit")) expect(decision?.permitted).toBe(true);
        },
      ),
      { numRuns: runs / 4 },
    );
  });
});
