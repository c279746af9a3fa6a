import fc from "fast-check";
import { compile, type Row } from "portier";
import { administration, memoryStore, type RoleChange } from "portier/people";
import { describe, expect, it } from "vitest";
import { Naive } from "../support/naive.js";
import { documentFrom, groups, now, worlds } from "../support/random-documents.js";
import { runsOf, seedOf } from "../support/runs.js";

/**
 * Random people give, take, limit and delegate roles. Whatever is accepted, the plain reading of the model must find that
 * nobody holds what excludes each other, that no role loses its last holder, and that nobody came by a role which the assigner
 * could not give. Whatever is refused changes nothing.
 */

const runs = runsOf(200);
const seed = seedOf(1);

const persons = ["p1", "p2", "p3", "p4"] as const;
const instants = ["2027-01-31T12:00:00Z", "2027-02-01T00:00:00Z", "2027-03-01T00:00:00Z", "2030-06-01T00:00:00Z"];
const times = fc.record(
  {
    from: fc.constantFrom("2027-01-01", "2027-02-01", "2027-03-01"),
    until: fc.constantFrom("2027-01-15", "2027-02-01", "2027-03-01", "2028-01-01"),
  },
  { requiredKeys: [] },
);
const held = fc.oneof(
  fc.record({ role: fc.constantFrom("junior", "senior", "clerk") }),
  fc.record({ role: fc.constantFrom("editor", "lead"), on: fc.constantFrom("e1", "e2", "gone") }),
);
const person = fc.constantFrom(...persons);

const acting = fc.oneof({ weight: 5, arbitrary: fc.constant(undefined) }, { weight: 1, arbitrary: person });

const changes: fc.Arbitrary<RoleChange> = fc.oneof(
  fc
    .tuple(person, held, times)
    .map(([who, what, when]) => ({ kind: "assign", person: who, ...what, ...when }) as const),
  fc.tuple(person, held).map(([who, what]) => ({ kind: "revoke", person: who, ...what }) as const),
  fc
    .tuple(
      person,
      fc.oneof(
        fc.record({
          role: fc.constantFrom("junior", "senior", "clerk"),
          insteadOf: fc.constantFrom("junior", "clerk"),
        }),
        fc.record({
          role: fc.constantFrom("editor", "lead"),
          insteadOf: fc.constantFrom("editor", "lead"),
          on: fc.constantFrom("e1", "e2"),
        }),
      ),
      fc.constantFrom(undefined, null, "2027-03-01"),
    )
    .map(([who, what, until]) => ({ kind: "replace", person: who, ...what, until }) as const),
  fc
    .tuple(person, held, fc.constantFrom(null, "2027-02-01", "2027-03-01"))
    .map(([who, what, until]) => ({ kind: "set-expiry", person: who, ...what, until }) as const),
  {
    weight: 2,
    arbitrary: fc
      .tuple(person, person, times, fc.constantFrom([], ["clerk"], ["lead"]))
      .map(([of, to, when, without]) => ({ kind: "delegate", of, to, without, ...when }) as const),
  },
  { weight: 3, arbitrary: fc.tuple(person, person).map(([of, to]) => ({ kind: "end-delegation", of, to }) as const) },
);

const steps = fc.array(fc.record({ change: changes, assigner: fc.oneof(fc.constant("p1"), person), actedBy: acting }), {
  minLength: 1,
  maxLength: 12,
});

type Kept = Readonly<Record<string, readonly Row[]>>;

describe("changes of who holds what", () => {
  it("keep what must hold, whoever makes them", async () => {
    const document = (drawn: object) => documentFrom({ rules: [], groups: drawn });
    const assigners = documentFrom({ rules: [] }).roles ?? {};
    let accepted = 0;
    const refusals = new Set<string>();
    const kinds = new Set<string>();
    await fc.assert(
      fc.asyncProperty(worlds, groups, steps, async (world, drawn, made) => {
        const portier = compile(document(drawn));
        const { portier_assignments: assignments, staff, ...others } = world;
        // Somebody who can give most roles, so that enough is accepted.
        const own = {
          ...others,
          staff: staff.map((row) => (row["id"] === "p1" ? { ...row, post: null, active: true } : row)),
        };
        // What cannot be read is taken for held or not, and is not a matter of giving.
        const readable = (assignments as readonly Row[]).filter((row) => row["from"] !== "soon" && row["until"] !== 5);
        const clerk = { id: "p1", person: "p1", role: "clerk", on: null, from: null, until: null };
        const first = { ...clerk, assignedBy: null, reason: null };
        const store = memoryStore(portier, {
          source: portier.source(own),
          assignments: [first, ...(readable as never[])],
        });
        const state = async (): Promise<Kept> =>
          store.read((source) => ({
            ...own,
            portier_assignments: [...(source.all?.("portier_assignments") ?? [])],
            portier_delegations: [...(source.all?.("portier_delegations") ?? [])],
          }));
        const look = (data: Kept, me: string, at: string) =>
          new Naive({ document: document(drawn), data, me, now: at });
        const rolesAt = (data: Kept, me: string, at: string) => look(data, me, at).roles();
        const holders = (data: Kept, at: string) =>
          persons.flatMap((me) => rolesAt(data, me, at).map((role) => `${role}|${me}`));
        const mayAssign = (data: Kept, assigner: string, holding: string) => {
          const [role = "", on] = holding.split(" of ");
          const groupsOf = look(data, assigner, now);
          return [(assigners[role] as { assignableBy: readonly string[] }).assignableBy].flat().some((by) => {
            const [name = "", ofThis] = by.split(" of ");
            if (ofThis !== undefined) return rolesAt(data, assigner, now).includes(`${name} of ${on}`);
            return groupsOf.isIn(name);
          });
        };
        for (const { change, assigner, actedBy } of made) {
          const before = await state();
          const administrator = administration(portier, store).as({
            person: assigner,
            request: { now },
            ...(actedBy === undefined ? {} : { actedBy }),
          });
          const attempt = async () => {
            const first = await administrator.make(change);
            if (first.accepted || first.reason === "refused") return first;
            return administrator.make(change, { confirmed: first.warnings.map(({ id }) => id) });
          };
          // Nobody acts for another without a delegation that runs.
          const outcome = await attempt().catch((error: Error) => {
            expect(error.message).toMatch(/does not act for/);
            return undefined;
          });
          const after = await state();
          if (outcome?.accepted === false) refusals.add(String(outcome.problems[0]?.code));
          if (outcome?.accepted !== true) {
            expect(after).toEqual(before);
            continue;
          }
          accepted++;
          kinds.add(change.kind);
          const what = JSON.stringify({ change, assigner, actedBy });
          for (const at of instants) {
            for (const me of persons) {
              if (!look(before, me, at).conflicts())
                expect(look(after, me, at).conflicts(), `${what} ${me} ${at}`).toBe(false);
              const had = rolesAt(before, me, at);
              for (const holding of rolesAt(after, me, at).filter((one) => !had.includes(one))) {
                expect(mayAssign(before, assigner, holding), `${what}: ${me} comes by ${holding} at ${at}`).toBe(true);
              }
            }
            for (const { of, to, without, from, until } of after["portier_delegations"] as readonly Row[]) {
              const instant = (end: unknown) => (end === null ? undefined : Date.parse(String(end)));
              const isOver = (instant(from) ?? 0) > Date.parse(at) || Date.parse(at) >= (instant(until) ?? Infinity);
              if (isOver || before["portier_delegations"]?.some((row) => row["of"] === of && row["to"] === to))
                continue;
              const acted = rolesAt(after, String(of), at).filter(
                (role) => !(without as string[]).includes(role.split(" ")[0] ?? ""),
              );
              const own = rolesAt(after, String(to), at);
              const isBoth = (one: string[], other: string[]) =>
                one.includes("clerk") && other.some((role) => role.startsWith("lead of"));
              expect(isBoth(acted, own) || isBoth(own, acted), `${what}: ${to} acts for ${of} at ${at}`).toBe(false);
            }
            const [was, is] = [holders(before, at), holders(after, at)];
            for (const role of new Set(was.map((one) => one.split("|")[0] as string))) {
              if (!role.startsWith("clerk") && !role.startsWith("lead")) continue;
              const isKept = is.some((one) => one.startsWith(`${role}|`));
              expect(isKept, `${what}: nobody is left who is ${role} at ${at}`).toBe(true);
            }
          }
        }
      }),
      { numRuns: runs, seed },
    );
    // A test in which nothing was accepted would test nothing.
    expect(accepted).toBeGreaterThan(runs / 10);
    expect([...kinds].sort()).toEqual(["assign", "delegate", "end-delegation", "replace", "revoke", "set-expiry"]);
    expect([...refusals]).toEqual(expect.arrayContaining(["may-not-assign", "excluded-role", "last-holders"]));
  });
});
