import fc from "fast-check";
import { compile, type Diagnostic, type DocumentInput, type Row, type Session, type Source } from "portier";
import { expect, it, vi } from "vitest";
import { openSubject } from "../../src/session/open-subject.js";
import { runsOf, seedOf } from "../support/runs.js";

// Whoever is like somebody opened before is not worked out again. Two who are held for alike and are not would have each
// other's rights, so everything that can tell two persons apart is drawn here, and each is held against the same person
// opened by a library that has never seen anybody.

vi.mock("../../src/session/open-subject.js", async (original) => {
  const actual = await original<{ openSubject: typeof openSubject }>();
  return { ...actual, openSubject: vi.fn(actual.openSubject) };
});

const ways = [
  ...["keep", "register", "audit", "sort", "warm", "own", "guide", "lock", "choose", "name", "order"],
  ...["air", "open", "close", "hang", "light"],
] as const;

const document: DocumentInput = {
  portier: 1,
  people: {
    table: "staff",
    active: "active",
    manager: "manager",
    roles: [
      "post",
      "more",
      { table: "duties", person: "who", role: "role", on: "what", from: "begins", until: "ends" },
    ],
  },
  roles: {
    keeper: {},
    registrar: { include: ["keeper"], exclusive: ["auditor"] },
    auditor: { exclusive: ["registrar"] },
    guide: { scope: "rooms" },
    night: {},
  },
  request: { hall: "text" },
  groups: {
    seniors: { members: [{ where: "grade >= 3" }], roles: ["night"] },
    line: { members: { below: "s-9" } },
    chosen: { members: "person s-1" },
    named: { members: "seniors", without: { where: "name = 'Ife'" } },
  },
  tables: {
    staff: {
      key: "id",
      fields: {
        id: "text",
        name: { type: "text", optional: true },
        post: { type: "text", optional: true },
        more: { list: "text", optional: true },
        dept: { type: "text", optional: true },
        site: { type: "text", optional: true },
        grade: { type: "integer", optional: true },
        manager: { reference: "staff", optional: true },
        active: "boolean",
      },
    },
    rooms: {
      key: "id",
      fields: {
        id: "text",
        opens: "date",
        dept: { type: "text", optional: true },
        keeper: { reference: "staff", optional: true },
      },
      owner: "keeper",
      actions: [...ways],
      // A rule for each thing that can tell persons apart, with an action of its own: none hides what another does.
      rules: {
        known: { to: "anyone", permit: { list: "all" } },
        keeper: { to: "keeper", permit: { keep: "yes" } },
        registrar: { to: "registrar", permit: { register: "yes" } },
        auditor: { to: "auditor", permit: { audit: "yes" } },
        dept: { to: "anyone", where: "dept = me.dept", permit: { sort: "yes" } },
        site: { to: "anyone", where: "me.site = 'north'", permit: { warm: "yes" } },
        owner: { to: "owner", permit: { own: "yes" } },
        guide: { to: "guide of this", permit: { guide: "yes" } },
        night: { to: "night", permit: { lock: "yes" } },
        chosen: { to: "chosen", permit: { choose: "yes" } },
        named: { to: "named", permit: { name: "yes" } },
        below: { to: "line", permit: { order: "yes" } },
        spring: { to: "anyone", from: "2027-05-01T12:00:00Z", permit: { air: "yes" } },
        day: { to: "anyone", where: "opens <= today", permit: { open: "yes" } },
        week: { to: "anyone", where: "opens in (today, date '2027-01-01')", permit: { close: "yes" } },
        asked: { to: "anyone", where: "request.hall = dept", permit: { hang: "yes" } },
        hall: { to: "anyone", where: "request.hall = 'east'", permit: { light: "yes" } },
      },
    },
    duties: {
      key: "id",
      fields: {
        id: "text",
        who: { reference: "staff" },
        role: "text",
        what: { reference: "rooms", optional: true },
        begins: { type: "timestamp", optional: true },
        ends: { type: "timestamp", optional: true },
      },
    },
  },
};

const rooms = ["r-1", "r-2"].flatMap((id) =>
  ["ships", "textiles", null].map((dept, index) => ({
    id,
    opens: "2027-05-01",
    dept,
    keeper: ["s-1", "s-2", null][index] ?? null,
  })),
);
const before = "2026-12-01T00:00:00Z";
const between = "2027-03-01T00:00:00Z";

/** What is usual, and now and then what keeps a person from being told at a glance. */
const mostly = <T>(usual: readonly T[], odd: readonly unknown[]) =>
  fc.oneof({ weight: 20, arbitrary: fc.constantFrom(...usual) }, { weight: 1, arbitrary: fc.constantFrom(...odd) });

const personArbitrary = fc.record({
  id: fc.constantFrom("s-1", "s-2"),
  name: fc.constantFrom("Odalys", "Ife", null),
  post: mostly(["keeper", "registrar", "auditor", null], ["sculptor", 3]),
  more: mostly([["auditor"], ["keeper", "night"], [], null], ['["night"]', 7]),
  dept: mostly(["ships", "textiles", null], [7]),
  site: fc.constantFrom("north", "south", null),
  grade: mostly([1, 3, null], ["3"]),
  manager: fc.constantFrom("s-9", "s-2", null),
  active: mostly([true], [false, 1]),
});
const fieldsOfPerson = ["id", "name", "post", "more", "dept", "site", "grade", "manager", "active"] as const;
const dutyArbitrary = fc.record({
  who: fc.constantFrom("s-1", "s-2"),
  role: fc.constant("guide"),
  what: fc.constantFrom("r-1", "r-2", null),
  begins: mostly([null, before, between], ["soon"]),
  ends: fc.constantFrom(null, between, "2028-01-01T00:00:00Z"),
});

const otherId = ({ id }: { readonly id: string }) => (id === "s-1" ? "s-2" : "s-1");

/** One person, and others who differ from them in one thing: only these could be held for alike by mistake. */
const worlds = fc
  .tuple(personArbitrary, fc.array(dutyArbitrary, { maxLength: 1 }), personArbitrary, fc.array(dutyArbitrary))
  .map(([person, duties, other, more]) => [
    { person, duties },
    ...fieldsOfPerson.map((field) => ({
      person: { ...person, [field]: field === "id" ? otherId(person) : other[field] },
      duties,
    })),
    ...more.slice(0, 3).map((duty) => ({ person, duties: [...duties.slice(1), duty] })),
  ]);

/** When, whether the person is given by their key, and one value of the request. */
const asked = [
  ["2027-01-01T09:00:00Z", false, null],
  ["2027-05-01T09:00:00Z", true, null],
  ["2027-05-01T15:00:00Z", true, null],
  ["2027-06-01T09:00:00Z", true, "ships"],
  ["2027-06-01T09:00:00Z", false, "east"],
] as const;

function told(open: (onDiagnostic: (diagnostic: Diagnostic) => void) => Session) {
  const diagnostics: string[] = [];
  try {
    const session = open(({ message }) => diagnostics.push(message));
    const asked = rooms.map((room) => ways.map((way) => session.decide(way, "rooms", room)));
    const reached = ways.map((way) => session.reach(way, "rooms"));
    return { asked, reached, roles: session.roles, person: session.person, diagnostics };
  } catch (error) {
    return { error: String(error) };
  }
}

it("never holds two for alike who are not", () => {
  const opened = vi.mocked(openSubject);
  const counts = { openings: 0, alike: 0, faults: 0, told: 0, timed: 0, byKey: 0 };
  fc.assert(
    fc.property(worlds, (drawn) => {
      const portier = compile(document);
      for (const { person, duties } of [...drawn, ...drawn, ...drawn]) {
        for (const [now, isByKey, hall] of asked) {
          const data = { staff: [person], rooms, duties: duties.map((one, index) => ({ ...one, id: `${index}` })) };
          const source = portier.source(data);
          const open = (one: typeof portier) =>
            told((onDiagnostic) =>
              one.session({
                person: isByKey ? person.id : person,
                source,
                request: { now, hall },
                onDiagnostic,
              }),
            );
          const made = opened.mock.calls.length;
          const beside = open(portier);
          counts.openings++;
          if (opened.mock.calls.length === made) counts.alike++;
          if (isByKey) counts.byKey++;
          const alone = open(compile(document));
          expect(beside).toEqual(alone);
          if ("error" in beside) counts.faults++;
          else if (beside.diagnostics.length > 0) counts.told++;
          if (duties.some(({ begins, ends }) => begins === between || ends === between)) counts.timed++;
        }
      }
    }),
    { seed: seedOf(1), numRuns: runsOf(12) },
  );
  for (const [what, count] of Object.entries(counts)) expect(count, what).toBeGreaterThan(20);
});

it.each(["the records", "the clock"])("works out who somebody is of one state, while %s go on", (what) => {
  const portier = compile(document);
  const person = { id: "s-1", name: null, post: null, more: null, dept: null, site: null, grade: null };
  const staff = [{ ...person, manager: null, active: true }];
  const border = Date.parse("2027-03-01T00:00:00Z");
  const duty = { id: "d-1", who: "s-1", role: "guide", what: "r-1", begins: null, ends: between };
  const sourceOf = (duties: readonly Row[]) => portier.source({ staff, rooms, duties });
  const guides = (source: Source) => portier.session({ person: "s-1", source }).may("guide", "rooms", rooms[0] as Row);
  vi.useFakeTimers({ now: border - 1_000 });
  try {
    // Whatever is read is otherwise the next time.
    for (let start = 0; start < 2; start++) {
      let reads = start;
      const restless = {
        ...sourceOf([]),
        referring: (table: string, field: string, key: string) => {
          reads++;
          if (what === "the clock") vi.setSystemTime(border + (reads % 2 === 0 ? -1_000 : 1_000));
          const isThere = what === "the clock" || reads % 2 === 0;
          return sourceOf(isThere ? [duty] : []).referring?.(table, field, key) ?? [];
        },
      };
      for (let opening = 0; opening < 5; opening++) guides(restless);
    }
    vi.setSystemTime(border - 1_000);
    expect([guides(sourceOf([])), guides(sourceOf([duty]))]).toEqual([false, true]);
    vi.setSystemTime(border + 1_000);
    expect([guides(sourceOf([])), guides(sourceOf([duty]))]).toEqual([false, false]);
  } finally {
    vi.useRealTimers();
  }
});
