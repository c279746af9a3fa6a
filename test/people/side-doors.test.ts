import fc from "fast-check";
import { type ChangeResult, compile, type DocumentInput, type Row } from "portier";
import { describe, expect, it } from "vitest";
import { Naive } from "../support/naive.js";
import { documentFrom, groups, now, promised, worlds } from "../support/random-documents.js";
import { runsOf, seedOf } from "../support/runs.js";

/**
 * Roles that are taken by the side door: records that roles come from are changed as any others are. Whatever a session
 * accepts, the plain reading of the model must find that nobody came by a role, or lost one, that was not the person's to
 * give, that nobody gave themselves one, that nothing excludes each other and no role lost its last holder.
 */

const runs = runsOf(150);
const seed = seedOf(1);

const persons = ["p1", "p2", "p3", "p4", "p5"] as const;
const instants = ["2027-01-31T12:00:00Z", "2030-06-01T00:00:00Z"];
const person = fc.constantFrom(...persons);
const staffValues = fc.record(
  {
    post: fc.constantFrom("junior", "senior", "clerk", null),
    level: fc.constantFrom(1, 2, null),
    boss: fc.constantFrom("p1", "p2", "p3", null),
    active: fc.constantFrom(true, false),
    dept: fc.constantFrom("d1", "d2", null),
    since: fc.constantFrom("2026-01-01", "2027-01-31", null),
  },
  { requiredKeys: [] },
);
const teamKey = fc.record({ event: fc.constantFrom("e1", "e2"), member: fc.constantFrom("p1", "p2", "p3", "p4") });
const part = fc.constantFrom("editor", "lead");
type Step = { readonly table: "staff" | "team"; readonly key: string | undefined; readonly values: Row | null };
const change: fc.Arbitrary<Step> = fc.oneof(
  {
    weight: 4,
    arbitrary: fc.tuple(person, staffValues).map(([key, values]): Step => ({ table: "staff", key, values })),
  },
  { weight: 1, arbitrary: person.map((key): Step => ({ table: "staff", key, values: null })) },
  {
    weight: 1,
    arbitrary: staffValues.map((values): Step => ({ table: "staff", key: undefined, values: { id: "p5", ...values } })),
  },
  {
    weight: 2,
    arbitrary: fc
      .tuple(teamKey, part)
      .map(([key, role]): Step => ({ table: "team", key: undefined, values: { ...key, part: role } })),
  },
  {
    weight: 2,
    arbitrary: fc
      .tuple(teamKey, part)
      .map(([{ event, member }, role]): Step => ({ table: "team", key: `${event}/${member}`, values: { part: role } })),
  },
  {
    weight: 1,
    arbitrary: fc
      .tuple(teamKey, person)
      .map(([{ event, member }, to]): Step => ({ table: "team", key: `${event}/${member}`, values: { member: to } })),
  },
  {
    weight: 2,
    arbitrary: teamKey.map(({ event, member }): Step => ({ table: "team", key: `${event}/${member}`, values: null })),
  },
);
const steps = fc.array(
  fc.record({
    change,
    me: fc.oneof(fc.constant("p1"), person),
    actedBy: fc.option(person, { nil: undefined, freq: 4 }),
  }),
  {
    minLength: 1,
    maxLength: 10,
  },
);

/** Whoever is there may write everything that roles come from, as far as the rules of the tables go. */
function open(drawn: object): DocumentInput {
  const document = documentFrom({ rules: [], groups: drawn });
  const all = { to: "anyone", permit: { view: "all", create: ["all", "id"], edit: ["all", "id"], delete: "yes" } };
  const links = {
    to: "anyone",
    permit: { view: "all", create: "all", edit: ["event", "member", "part"], delete: "yes" },
  };
  const known = { to: "anyone", permit: { view: "all" } };
  const { staff, team, events, depts } = document.tables as Record<string, object>;
  return {
    ...document,
    tables: {
      ...document.tables,
      staff: { ...staff, rules: { all } },
      team: { ...team, rules: { links } },
      events: { ...events, rules: { known } },
      depts: { ...depts, rules: { known } },
    } as DocumentInput["tables"],
  };
}

type Data = Readonly<Record<string, readonly Row[]>>;

describe("what a session accepts of records that roles come from", () => {
  it("is an assignment or revocation that the person may make", () => {
    const assigners = documentFrom({ rules: [] }).roles ?? {};
    const causes = new Set<string>();
    let accepted = 0;
    let changed = 0;
    fc.assert(
      fc.property(worlds, groups, steps, (world, drawn, made) => {
        const document = open(drawn);
        const portier = compile(document);
        const plain = (row: Row) => ({
          ...row,
          dept: row["dept"] === 7 ? null : row["dept"],
          level: row["level"] === "1" ? 1 : row["level"],
          boss: row["boss"] === 1 ? null : row["boss"],
        });
        const readable = (world.portier_assignments as readonly Row[]).filter(
          (row) => row["from"] !== "soon" && row["until"] !== 5,
        );
        const clerk = {
          id: "p1",
          person: "p1",
          role: "clerk",
          on: null,
          from: null,
          until: null,
          assignedBy: null,
          reason: null,
        };
        const acts = (to: string) => ({
          id: `d-${to}`,
          of: "p1",
          to,
          from: null,
          until: null,
          without: null,
          assignedBy: "p1",
          reason: null,
        });
        let data: Data = {
          ...world,
          staff: world.staff.map((row) => plain(row["id"] === "p1" ? { ...row, post: null, active: true } : row)),
          portier_assignments: [clerk, ...readable],
          portier_delegations: [acts("p2"), acts("p3")],
        };
        const look = (from: Data, me: string, at: string) => new Naive({ document, data: from, me, now: at });
        const mayAssign = (from: Data, assigner: string, holding: string) => {
          const [role = "", on] = holding.split(" of ");
          return [(assigners[role] as { assignableBy: readonly string[] }).assignableBy].flat().some((by) => {
            const [name = "", ofThis] = by.split(" of ");
            const own = look(from, assigner, now);
            return ofThis === undefined ? own.isIn(name) : own.roles().includes(`${name} of ${on}`);
          });
        };
        for (const { change: step, me, actedBy } of made) {
          const before = data;
          const { table, key, values } = step;
          const source = portier.source(data);
          const acting = actedBy === undefined || me !== "p1" ? {} : { actedBy };
          let outcome: ChangeResult;
          const stored = key === undefined ? undefined : source.find(table, key);
          if (key !== undefined && stored === undefined) continue;
          if (key === undefined && source.find(table, keyOf(table, values ?? {})) !== undefined) continue;
          try {
            const session = portier.session({ person: me, source, request: { now }, ...acting });
            outcome =
              values === null
                ? session.checkDelete(table, stored)
                : key === undefined
                  ? session.checkCreate(table, values)
                  : session.checkEdit(table, stored, values);
          } catch (error) {
            expect(String(error)).toMatch(/does not act for/);
            continue;
          }
          if (!outcome.accepted) {
            for (const { cause } of outcome.refusals) if (cause !== undefined) causes.add(cause);
            continue;
          }
          accepted++;
          const rest = (data[table] ?? []).filter((row) => row !== stored);
          const after: Data = { ...data, [table]: outcome.record === undefined ? rest : [...rest, outcome.record] };
          const what = JSON.stringify({ step, me, acting, before: data, roles: drawn });
          for (const at of instants) {
            for (const one of persons) {
              if (!look(before, one, at).conflicts())
                expect(look(after, one, at).conflicts(), `${one} ${what}`).toBe(false);
              const [had, has] = [look(before, one, at).roles(), look(after, one, at).roles()];
              const gained = has.filter((holding) => !had.includes(holding));
              const lost = had.filter((holding) => !has.includes(holding));
              if (gained.length + lost.length > 0) changed++;
              if (gained.length > 0)
                expect([me, ...Object.values(acting)], `${one} gains ${gained} ${what}`).not.toContain(one);
              for (const holding of [...gained, ...lost]) {
                expect(mayAssign(before, me, holding), `${one} ${holding} at ${at} ${what}`).toBe(true);
              }
            }
            const holders = (from: Data) =>
              persons.flatMap((one) =>
                look(from, one, at)
                  .roles()
                  .map((role) => role),
              );
            for (const role of new Set(holders(before))) {
              if (!role.startsWith("clerk") && !role.startsWith("lead")) continue;
              expect(holders(after), `nobody is left who is ${role} ${what}`).toContain(role);
            }
          }
          data = after;
        }
      }),
      { numRuns: runs, seed, endOnFailure: true },
    );
    expect(accepted).toBeGreaterThan(runs / 2);
    expect(changed).toBeGreaterThan(runs / 10);
    expect([...causes].sort()).toEqual(
      expect.arrayContaining([
        "excluded-role",
        "assigns-oneself",
        "last-holders",
        "may-not-assign",
        "not-while-acting",
      ]),
    );
  });
});

function keyOf(table: string, values: Row): string {
  return table === "staff" ? String(values["id"]) : `${values["event"]}/${values["member"]}`;
}

describe("a field that a group with roles asks about", () => {
  it.each<[string, Row, Row]>([
    ["level > 1", { level: 1 }, { level: 2 }],
    ["level > 1.5", { level: 1 }, { level: 2 }],
    ["1.5 < level", { level: 1 }, { level: 2 }],
    ["level in (2.0, 3.5)", { level: 1 }, { level: 2 }],
    ["since + 30 days < date '2027-01-31'", { since: "2027-01-31" }, { since: "2026-01-01" }],
    ["since - 1 day between date '2025-12-01' and date '2026-02-01'", { since: "2027-01-31" }, { since: "2026-01-01" }],
    ["'a' in tongues", { tongues: [] }, { tongues: ["a"] }],
    ["since is null", { since: "2027-01-31" }, { since: null }],
    ["post like 'cl%'", { post: "junior" }, { post: "clerk" }],
    ["dept.head = me.id", { dept: "d2" }, { dept: "d1" }],
  ])("brings no role by an ordinary edit: %s", (where, before, values) => {
    const portier = compile(
      open({ inner: { members: ["senior"] }, outer: { members: [{ where }], roles: ["clerk"] } }),
    );
    const person = {
      id: "p1",
      post: null,
      dept: "d2",
      level: 1,
      boss: null,
      tongues: [],
      since: "2027-01-31",
      active: true,
    };
    const staff = [{ ...person, ...before }];
    const depts = [
      { id: "d1", head: "p1" },
      { id: "d2", head: null },
    ];
    const source = portier.source({
      staff,
      depts,
      events: [],
      team: [],
      portier_assignments: [],
      portier_delegations: [],
    });
    const session = portier.session({ person: "p1", source, request: promised });
    const outcome = session.checkEdit("staff", staff[0], values);
    expect(outcome).toMatchObject({ accepted: false, refusals: [{ reason: "role-change" }] });
  });
});
