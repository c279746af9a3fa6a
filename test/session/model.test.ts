import fc from "fast-check";
import {
  actionNames,
  type BatchResult,
  type BuiltInAction,
  type ChangeResult,
  compile,
  type Row,
  type RuleInput,
  type Session,
  type Snapshot,
  snapshotOf,
} from "portier";
import { explain, type MissingCondition } from "portier/explain";
import { openSnapshot } from "portier/snapshot";
import { lint } from "portier/verify";
import { afterAll, describe, expect, it } from "vitest";
import { as as museumSession } from "../support/museum.js";
import { Naive, type Outcome } from "../support/naive.js";
import {
  type Drawn,
  documentFrom,
  everyRules,
  groups,
  items,
  lineProposals,
  lines,
  now,
  promised,
  proposals,
  rules,
  sheetRules,
  tables,
  worlds,
} from "../support/random-documents.js";
import { runsOf, seedOf } from "../support/runs.js";

// A case is one answer that both gave.
const runs = Math.ceil(runsOf(120) / 20) * 20;
const seed = seedOf(2);
let compared = 0;
let acted = 0;
let offered = 0;
// biome-ignore lint/suspicious/noConsole: whoever reads the run must be able to repeat it
afterAll(() => console.info(`seed ${seed}: ${compared} answers compared`));

/** Holds an answer of the library against the model's. */
function same(found: unknown, expected: unknown, what: string): void {
  compared++;
  // The matcher is asked only for what differs: asking it is what takes the time here.
  if (found !== expected) expect(found, what).toEqual(expected);
}

const fields = Object.keys(tables.items.fields);
const sheetFields = Object.keys(tables.sheet.fields);
const lookups = new Set(
  Object.entries(tables.items.fields).flatMap(([name, field]) =>
    typeof field === "object" && "lookup" in field ? [name] : [],
  ),
);

const drawn = fc.record({
  rules: fc.array(rules, { minLength: 1, maxLength: 7 }),
  every: fc.option(everyRules, { nil: undefined, freq: 3 }),
  groups,
});
const who = fc.constantFrom("p1", "p2", "p3", "p1", "p2", "stranger", undefined);
const actors = fc.option(fc.constantFrom("p1", "p3", "p4"), { nil: undefined, freq: 2 });
const cases = fc.record({ drawn, world: worlds, me: who, actedBy: actors, item: items, proposal: proposals });
const gridCases = fc.record({
  drawn: fc.record({ rules: fc.constant([]), sheet: fc.array(sheetRules, { minLength: 1, maxLength: 6 }) }),
  world: worlds,
  me: who,
  item: lines,
  proposal: lineProposals,
});

interface Case {
  readonly drawn: Drawn;
  readonly world: Readonly<Record<string, readonly Row[]>>;
  readonly me: string | undefined;
  readonly actedBy?: string | undefined;
}

function dataOf({ world }: Case): Record<string, readonly Row[]> {
  return { ...world, items: [{ id: "i1" }, { id: "i2" }], sheet: [{ id: "s1" }] };
}

function open(one: Case): Session {
  const portier = compile(documentFrom(one.drawn));
  const { me } = one;
  const actedBy = actorIn(one);
  if (actedBy !== undefined) acted++;
  return portier.session({
    ...(me === undefined ? {} : { person: me }),
    ...(actedBy === undefined ? {} : { actedBy }),
    source: portier.source(dataOf(one)),
    request: promised,
  });
}

function naive(one: Case): Naive {
  return new Naive({ ...worldOf(one), actedBy: actorIn(one) });
}

function worldOf(one: Case) {
  return { document: documentFrom(one.drawn), data: dataOf(one), me: one.me, now, request: promised };
}

/** Who acts for the person, where a delegation to them runs: without one, no session opens. */
function actorIn(one: Case): string | undefined {
  const { me, actedBy } = one;
  if (me === undefined || actedBy === undefined) return undefined;
  return new Naive(worldOf(one)).delegationsTo(actedBy).length > 0 ? actedBy : undefined;
}

/** The same words as the naive evaluator's. */
function outcome(acceptance: ChangeResult): string {
  if (acceptance.accepted) return "ok";
  if (acceptance.reason === "unconfirmed")
    return `confirm ${(acceptance.confirm ?? []).map(({ rule }) => rule).sort()}`;
  return acceptance.reason === "refused" ? fieldsOf(acceptance.refusals) : acceptance.reason;
}

function fieldsOf(refusals: readonly { readonly field?: string }[]): string {
  return [...new Set(refusals.map(({ field }) => field ?? "act"))].sort().join(",");
}

/** What was accepted must also be what the model comes to. */
function expectSame(acceptance: ChangeResult, expected: Outcome): void {
  // Whether a change of who holds what may be made is held against the state after it, in test/people/side-doors.test.ts.
  const said = acceptance.accepted ? acceptance.dropped : acceptance.refusals;
  if (said.some(({ reason }) => reason === "role-change")) return;
  same(outcome(acceptance), expected.answer, "outcome");
  if (!acceptance.accepted) return;
  expect(fieldsOf(acceptance.dropped)).toBe(expected.dropped);
  if (acceptance.record !== undefined && expected.record !== undefined)
    expect(acceptance.record).toEqual(expected.record);
}

/** Everything that a session says about a record, to compare two sessions by. */
function answers(session: Session, item: Row): Record<string, boolean> {
  const found: Record<string, boolean> = {};
  for (const action of ["list", "view", "edit", "export", "bulk"] as const) {
    for (const field of fields) found[`${action} ${field}`] = session.may(action, "items", item, field);
  }
  for (const action of ["delete", "create", "import", "approve"] as const) {
    found[action] = session.may(action, "items", item);
  }
  return found;
}

function compareSeen(one: Case & { readonly item: Row }, table: keyof typeof tables, names: readonly string[]): void {
  const session = open(one);
  const model = naive(one);
  for (const action of ["list", "view", "export"] as const) {
    for (const field of names) {
      const expected = model.sees(table, action, field, one.item);
      same(session.may(action, table, one.item, field), expected, `${action} ${field}`);
      same(session.decide(action, table, one.item, field).permitted, expected, `decide ${action} ${field}`);
      same(session.question(action, table, field)(one.item), expected, `question ${action} ${field}`);
    }
    same(session.may(action, table, one.item), model.seesRecord(table, action, one.item), action);
    same(session.mask(table, one.item, action), model.mask(table, action, one.item), `mask ${action}`);
  }
  for (const action of ["edit", "bulk"] as const) {
    for (const field of names) {
      // Asked about the position, a range that holds the row makes the answer tentative only.
      if (table === "sheet" && field === "row") continue;
      const expected = model.mayTry(table, action, field, one.item);
      same(session.may(action, table, one.item, field), expected, `${action} ${field}`);
      same(session.decide(action, table, one.item, field).permitted, expected, `decide ${action} ${field}`);
    }
  }
  const own = table === "items" || table === "sheet" ? ["approve"] : [];
  for (const action of ["delete", ...own]) {
    same(session.may(action, table, one.item), model.mayAct(table, action, one.item), action);
    const checked =
      action === "delete" ? session.checkDelete(table, one.item) : session.checkAction(action, table, one.item);
    expectSame(checked, model.act(table, action, one.item));
  }
}

/** A form is what is seen, what may be tried, and what each choice would come to. */
function compareForms(one: Case & { readonly item: Row }): void {
  const table = "items";
  const session = open(one);
  const model = naive(one);
  const { item } = one;
  const form = session.form(table, item);
  same(form !== undefined, model.asks() && model.knows(table, item), "form");
  if (form === undefined) return;
  const seen = { ...model.mask(table, "list", item), ...model.mask(table, "view", item) };
  for (const { name, state, blind, value, choices } of form.fields) {
    const isSeen = Object.hasOwn(seen, name);
    const may = model.mayTry(table, "edit", name, item);
    const open = state === "editable" || state === "confirm";
    same(
      [state === "hidden", open, blind === true, value],
      [!isSeen, isSeen && may, may && !isSeen, seen[name]],
      `form ${name}`,
    );
    const declared = tables.items.fields[name as "title"] as unknown;
    const type = declared as { readonly choice?: readonly string[]; readonly reference?: string } | undefined;
    const target = type?.reference;
    if (!may || (type?.choice === undefined && target === undefined)) continue;
    const listed =
      target === undefined ? [] : (dataOf(one)[target] ?? []).filter((row) => model.seesRecord(target, "list", row));
    const candidates = type?.choice ?? listed.map((row) => row["id"] as string);
    const fits = (value: string) =>
      /^(ok|confirm)/.test(model.edit(table, item, { [name]: value }, "strict", ["edit"]).answer);
    if (candidates.length > 0) offered++;
    same([...(choices ?? [])].sort(), candidates.filter(fits).sort(), `choices of ${name}`);
  }
  for (const { name, permitted } of form.actions) {
    const isAct = name === "delete" || name === "approve";
    if (isAct) same(permitted, model.mayAct(table, name, item), `form's ${name}`);
  }
}

function compareChanges(one: Case & { readonly item: Row; readonly proposal: Row }, table: keyof typeof tables): void {
  const session = open(one);
  const model = naive(one);
  const { item, proposal } = one;
  const only = (many: BatchResult) => many.results[0] as ChangeResult;
  for (const mode of ["strict", "lenient"] as const) {
    expectSame(session.checkEdit(table, item, proposal, { mode }), model.edit(table, item, proposal, mode, ["edit"]));
    expectSame(session.checkCreate(table, proposal, { mode }), model.create(table, proposal, mode, ["create"]));
    expectSame(
      only(session.checkBulkEdit(table, [item], proposal, { mode })),
      model.edit(table, item, proposal, mode, ["edit", "bulk"]),
    );
    expectSame(
      only(session.checkImport(table, [proposal], { mode })),
      model.create(table, proposal, mode, ["create", "import"]),
    );
  }
}

describe("the library and a plain second reading of the model agree", () => {
  it("on what is seen, what may be tried, and what may be done", () => {
    fc.assert(
      fc.property(cases, (one) => {
        compareSeen(one, "items", fields);
        compareForms(one);
      }),
      { seed, numRuns: runs },
    );
    // Some of them by whoever acts for the person, and some with values to choose from.
    expect([acted > runs / 12, offered > runs / 40]).toEqual([true, true]);
    expect(compared).toBeGreaterThan(runs * 80);
  });

  it("on changes and new records, to the last refused field", () => {
    fc.assert(
      fc.property(cases, (one) => compareChanges(one, "items")),
      { seed, numRuns: runs },
    );
  });

  it("on the cells of a grid, protected by rules and by people", () => {
    const came = new Set<string>();
    fc.assert(
      fc.property(gridCases, (one) => {
        compareSeen(one, "sheet", sheetFields);
        compareChanges(one, "sheet");
        const session = open(one);
        const model = naive(one);
        for (const field of sheetFields) {
          const expected = model.mayTry("sheet", "protect", field, one.item);
          same(session.may("protect", "sheet", one.item, field), expected, `protect ${field}`);
          const { rule = "", reason, confirm = [] } = session.decide("edit", "sheet", one.item, field);
          if (expected) came.add("protect");
          if (rule.startsWith("sheet/protection.")) came.add(reason);
          if (confirm.some((asked) => asked.rule.startsWith("sheet/protection."))) came.add("confirmed");
        }
      }),
      { seed, numRuns: runs },
    );
    expect([...came].sort()).toEqual(["confirmed", "protect", "reserved"]);
  });

  it("on every other table: keys of several fields, scoped roles, owners, what is for everybody", () => {
    fc.assert(
      fc.property(cases, fc.nat(), (one, pick) => {
        const table = (["staff", "depts", "events", "team", "notes"] as const)[pick % 5] ?? "staff";
        const rows = one.world[table] ?? [];
        const item = rows[pick % Math.max(1, rows.length)];
        if (item === undefined) return;
        const names = Object.keys(tables[table].fields);
        compareSeen({ ...one, item }, table, names);
        const other: Row = rows[(pick + 1) % rows.length] ?? item;
        const proposal = Object.fromEntries(names.slice(pick % 3).map((name) => [name, other[name] ?? null]));
        compareChanges({ ...one, item, proposal }, table);
      }),
      { seed, numRuns: runs },
    );
  });

  it("on the promises of reach", () => {
    fc.assert(
      fc.property(cases, gridCases, (one, grid) => {
        expectPromises(open(one), "items", one.item, fields, one.me);
        expectPromises(open(grid), "sheet", grid.item, sheetFields, undefined);
      }),
      { seed, numRuns: runs / 2 },
    );
  });
});

function expectPromises(
  session: Session,
  table: string,
  item: Row,
  names: readonly string[],
  me: string | undefined,
): void {
  for (const action of [...actionNames, "approve"]) {
    const isRecord = action === "delete" || action === "approve";
    for (const field of isRecord ? [undefined] : [undefined, ...names]) {
      const reach = session.reach(action, table, field);
      const permitted = session.may(action, table, item, field);
      if (reach === "none") expect(permitted, `${action} ${field}`).toBe(false);
      if (reach === "all") expect(permitted, `${action} ${field}`).toBe(true);
      if (reach === "own" && permitted) expect(item["keeper"], `${action} ${field}`).toBe(me);
    }
  }
}

describe("rules", () => {
  it("mean the same in any order", () => {
    fc.assert(
      fc.property(cases, (one) => {
        const turned = { ...one, drawn: { ...one.drawn, rules: [...one.drawn.rules].reverse() } };
        expect(answers(open(turned), one.item)).toEqual(answers(open(one), one.item));
      }),
      { seed, numRuns: runs / 4 },
    );
  });

  it("answer each person the same beside others, whose plans they may share, as alone", () => {
    const everybody = ["p1", "p2", "p3", "p4", "stranger", undefined, "p2", "p1"];
    const instants = [now, "2027-02-02T23:30:00Z", now];
    fc.assert(
      fc.property(cases, (one) => {
        const shared = compile(documentFrom(one.drawn));
        const source = shared.source(dataOf(one));
        for (const instant of instants) {
          for (const me of everybody) {
            const person = me === undefined ? {} : { person: me };
            const alone = compile(documentFrom(one.drawn)).session({ ...person, source, request: { now: instant } });
            const beside = shared.session({ ...person, source, request: { now: instant } });
            expect(answers(beside, one.item), `${me} ${instant}`).toEqual(answers(alone, one.item));
            expect(beside.checkCreate("items", one.proposal)).toEqual(alone.checkCreate("items", one.proposal));
          }
        }
      }),
      { seed, numRuns: runs / 20 },
    );
  });

  it("that deny win over whatever permits", () => {
    const wall: RuleInput = {
      deny: {
        list: "all",
        view: "all",
        create: "all",
        edit: "all",
        delete: "yes",
        export: "all",
        import: "all",
        bulk: "all",
        approve: "yes",
      },
    };
    fc.assert(
      fc.property(cases, (one) => {
        const session = open({ ...one, drawn: { ...one.drawn, rules: [...one.drawn.rules, wall] } });
        expect(Object.values(answers(session, one.item)).some(Boolean)).toBe(false);
        for (const action of actionNames) expect(session.reach(action, "items"), action).toBe("none");
      }),
      { seed, numRuns: runs / 4 },
    );
  });

  it("that permit never take anything away when they are added", () => {
    fc.assert(
      fc.property(
        cases,
        rules.filter((rule) => rule.permit !== undefined),
        (one, added) => {
          const before = answers(open(one), one.item);
          const after = answers(
            open({ ...one, drawn: { ...one.drawn, rules: [...one.drawn.rules, added] } }),
            one.item,
          );
          for (const [question, permitted] of Object.entries(before)) {
            if (permitted) expect(after[question], question).toBe(true);
          }
        },
      ),
      { seed, numRuns: runs / 4 },
    );
  });
});

function expectExplained(session: Session, table: string, item: Row, field: string, action: BuiltInAction): void {
  const { decision, rules: traces } = explain(session, { action, table, record: item, field });
  expect(decision).toEqual(session.decide(action, table, item, field));
  const named = traces.filter((trace) => trace.rule === decision?.rule).map((trace) => trace.applies);
  if (decision?.rule !== undefined) expect(named.some((applies) => applies !== "no")).toBe(true);
  const applying = traces.filter((trace) => trace.applies === "yes").map((trace) => trace.effect);
  // Keys, lookups and composite reference follow from other fields besides.
  const isOwn = field !== "id" && field !== "place" && field !== "dept_head";
  if (decision?.reason === "not-found" || !isOwn) return;
  if (applying.some((effect) => effect === "deny" || effect === "reserve")) expect(decision?.permitted).toBe(false);
  else if (applying.includes("permit")) expect(decision?.permitted).toBe(true);
}

const somebody = {
  id: "nobody",
  post: null,
  dept: "d1",
  level: 1,
  boss: null,
  tongues: [],
  since: "2027-01-31",
  active: true,
};

const plainWheres = [
  "status = 'open'",
  "status <> 'shut' and level < 2",
  "level > 1",
  "title = 'a' or flag = true",
  "not (flag = true)",
  "status in ('open', 'shut')",
  "dept.head = me",
  "exists (notes where item = this.id)",
];
const plainWho = fc.uniqueArray(fc.constantFrom("junior", "senior", "clerk", "inner", "outer", "owner"), {
  minLength: 1,
  maxLength: 2,
});
const plainExtents = fc.constantFrom<object>(
  { view: ["title", "status"], edit: ["title"] },
  { view: "all", edit: ["title", "status"], bulk: ["title", "status"], export: "all" },
  { export: ["title"], bulk: ["title"], delete: "yes" },
  { delete: "yes", approve: "yes", list: ["status"] },
);
/** Rules whose ways to a yes can be gone: by a claim, or by a record that is drawn. */
const plainRules: fc.Arbitrary<RuleInput> = fc
  .record({
    to: fc.oneof({ weight: 3, arbitrary: plainWho }, { weight: 1, arbitrary: fc.constant(["anyone"]) }),
    except: fc.option(plainWho, { nil: undefined, freq: 2 }),
    where: fc.option(fc.constantFrom(...plainWheres), { nil: undefined }),
    effect: fc.constantFrom("permit", "permit", "permit", "deny", "reserve"),
    extents: plainExtents,
  })
  .map(({ to, except, where, effect, extents }) => ({
    to,
    ...(except === undefined ? {} : { except }),
    ...(where === undefined ? {} : { where }),
    [effect]: extents,
  }));

/** The current user, and of which record, after doing what a way to a yes says and nothing else; undefined where that is not found. */
function remedied(
  one: Case & { readonly item: Row },
  table: string,
  needs: readonly MissingCondition[],
  pool: readonly Row[],
) {
  let { me, item } = one;
  const names: string[] = [];
  for (const { text } of needs.filter(({ kind }) => kind === "who")) {
    const name = /^be (\S+)/.exec(text)?.[1];
    if (name === undefined || /^be \S+ (?!or)/.test(text)) return undefined;
    // A visitor who signs in is somebody, and nothing else.
    me ??= "nobody";
    if (name === "owner") item = { ...item, keeper: me };
    else if (name !== "signed-in") names.push(name);
  }
  const texts = needs.filter(({ kind }) => kind === "where").map(({ text }) => text);
  // Each need is asked by a rule of its own, which permits nothing that is asked about.
  const tests = [
    ...texts.map((where) => ({ to: ["anyone"], where, permit: { create: ["title"] } })),
    ...names.map((name) => ({ to: [name], permit: { create: ["title"] } })),
  ];
  const portier = compile(documentFrom({ ...one.drawn, rules: [...one.drawn.rules, ...tests] }));
  const taken = needs.map(({ text }) => /^without the setting ((?:none|view) of \S+)$/.exec(text)?.[1]);
  const isTaken = (row: Row) =>
    row["who"] === me && row["part"] === table && taken.includes(`${row["how"]} of ${row["attr"]}`);
  const session = portier.session({
    ...(me === undefined ? {} : { person: me }),
    claims: names.map((role) => ({ role, source: "a claim" })),
    source: portier.source({
      ...dataOf(one),
      staff: [...(one.world["staff"] ?? []), somebody],
      marks: (one.world["marks"] ?? []).filter((row) => !isTaken(row)),
    }),
    request: promised,
    onDiagnostic: () => {},
  });
  const isDone = (record: Row) => {
    const { rules: traces } = explain(session, { action: "create", table, record });
    const truths = tests.map((_, index) => {
      const trace = traces.find(({ rule }) => rule === `items/r${one.drawn.rules.length + index}`);
      return index < texts.length ? trace?.where?.truth : trace?.to.truth;
    });
    return truths.every((truth) => truth === "true");
  };
  const changed = Object.keys(item).filter((field) => new RegExp(`\\b${field}\\b`).test(texts.join(" ")));
  const parts = pool.map((row) => Object.fromEntries(changed.map((field) => [field, row[field]])));
  const done = [item, ...parts.map((part) => ({ ...item, ...part }))].find(isDone);
  return done && { session, item: done };
}

describe("an explanation", () => {
  it("says what is missing: who does that, and nothing else, gets a yes", () => {
    const counts = {
      ways: 0,
      done: 0,
      roles: 0,
      conditions: 0,
      several: 0,
      export: 0,
      bulk: 0,
      delete: 0,
      owner: 0,
      settings: 0,
    };
    const drawnRules = fc.oneof(
      { weight: 4, arbitrary: fc.array(plainRules, { minLength: 2, maxLength: 6 }) },
      { weight: 1, arbitrary: fc.array(rules, { minLength: 1, maxLength: 5 }) },
    );
    const asked = fc.record({
      one: cases,
      own: drawnRules,
      name: fc.constantFrom("title", "status", "title", "level", "id", "place"),
      action: fc.constantFrom("list", "view", "edit", "export", "bulk", "bulk", "delete", "approve"),
      pool: fc.array(items, { minLength: 25, maxLength: 25 }),
      set: fc.option(fc.constantFrom("none", "view"), { nil: undefined, freq: 3 }),
    });
    fc.assert(
      fc.property(asked, ({ one: given, own, name, action, pool, set }) => {
        const mark = {
          id: "m9",
          who: given.me,
          part: "items",
          attr: name,
          how: set,
          rec: null,
          from: null,
          until: null,
        };
        const marks = [...(given.world["marks"] ?? []), ...(set === undefined || name === "id" ? [] : [mark])];
        const drawn = { ...given.drawn, rules: own, every: undefined };
        const one = { ...given, actedBy: undefined, drawn, world: { ...given.world, marks } };
        const field = action === "delete" || action === "approve" ? undefined : name;
        const found = explain(open(one), { action, table: "items", record: one.item, field });
        if (found.decision?.permitted !== false) return;
        for (const { needs } of found.remedies) {
          counts.ways++;
          const after = remedied(one, "items", needs, pool);
          if (after === undefined) continue;
          counts.done++;
          if (action in counts) counts[action as "export"]++;
          if (needs.some(({ kind }) => kind === "who")) counts.roles++;
          if (needs.some(({ kind }) => kind === "where")) counts.conditions++;
          if (needs.length > 1) counts.several++;
          if (needs.some(({ kind }) => kind === "setting")) counts.settings++;
          if (needs.some(({ text }) => text.includes("owner"))) counts.owner++;
          const { permitted } = after.session.decide(action, "items", after.item, field);
          expect(permitted, `${action} ${field} ${JSON.stringify(needs)}`).toBe(true);
        }
      }),
      { seed, numRuns: runs * 8 },
    );
    for (const [what, count] of Object.entries(counts)) expect([what, count > 10]).toEqual([what, true]);
  });

  it("never contradicts the decision, and names the rule that decided among those that apply", () => {
    fc.assert(
      fc.property(
        cases,
        fc.constantFrom(...fields),
        fc.constantFrom<BuiltInAction>("list", "view", "edit"),
        (one, field, action) => expectExplained(open(one), "items", one.item, field, action),
      ),
      { seed, numRuns: runs / 4 },
    );
  });

  it("says so of the cells of a grid, too", () => {
    const asked = [fc.constantFrom(...sheetFields), fc.constantFrom<BuiltInAction>("list", "view", "edit")] as const;
    fc.assert(
      fc.property(gridCases, ...asked, (one, field, action) => {
        expectExplained(open(one), "sheet", one.item, field, action);
      }),
      { seed, numRuns: runs / 4 },
    );
  });
});

describe("a snapshot", () => {
  /** What goes over the wire and comes back. */
  function overTheWire(session: Session, one: Case): Session {
    const snapshot: Snapshot = JSON.parse(JSON.stringify(snapshotOf(session)));
    return openSnapshot(snapshot, { source: compile(documentFrom(one.drawn)).source(dataOf(one)) });
  }

  it("answers in the browser what the session answers on the server", () => {
    fc.assert(
      fc.property(cases, gridCases, (one, grid) => {
        for (const [table, { item, proposal }, session, copy] of [
          ["items", one, open(one), overTheWire(open(one), one)],
          ["sheet", grid, open(grid), overTheWire(open(grid), grid)],
        ] as const) {
          const names = table === "items" ? fields : sheetFields;
          for (const action of ["list", "view", "edit", "export", "bulk"] as const) {
            for (const field of names) {
              // Of several rules that apply, the one that is looked at first is named: that depends on what is decided before.
              const plain = (of: Session) => ({
                ...of.decide(action, table, item, field),
                rule: undefined,
                note: undefined,
              });
              expect(plain(copy)).toEqual(plain(session));
              expect(copy.reach(action, table, field)).toBe(session.reach(action, table, field));
            }
          }
          expect(copy.mask(table, item)).toEqual(session.mask(table, item));
          expect(copy.checkEdit(table, item, proposal)).toEqual(session.checkEdit(table, item, proposal));
          expect(copy.checkCreate(table, proposal)).toEqual(session.checkCreate(table, proposal));
          expect(copy.form(table, item)).toEqual(session.form(table, item));
          expect(copy.form(table)).toEqual(session.form(table));
        }
      }),
      { seed, numRuns: runs / 4 },
    );
  });

  it("answers without the records of other tables, too, but for what lint says it cannot", () => {
    const counts = { left: 0, warned: 0, undecided: 0 };
    fc.assert(
      fc.property(cases, (one) => {
        const warnings = lint(compile(documentFrom(one.drawn)), { browser: true }).filter(
          ({ code }) => code === "needs-server",
        );
        const places = new Set(warnings.map(({ path }) => path.at(-1)));
        const rules = one.drawn.rules.filter((_, index) => !places.has(`r${index}`));
        counts.warned += one.drawn.rules.length - rules.length;
        counts.left += rules.length;
        for (const drawn of [{ ...one.drawn, rules, every: undefined }, one.drawn]) {
          const session = open({ ...one, drawn });
          const snapshot: Snapshot = JSON.parse(JSON.stringify(snapshotOf(session, ["items"])));
          const copy = openSnapshot(snapshot, { onDiagnostic: () => {} });
          const own = fields.filter((field) => !lookups.has(field));
          for (const action of ["list", "view", "edit", "export", "bulk", "delete", "approve"] as const) {
            for (const field of action === "delete" || action === "approve" ? [undefined] : own) {
              const [there, here] = [session, copy].map((each) => each.decide(action, "items", one.item, field));
              if (here?.reason === "fault") counts.undecided++;
              // Nothing that the server would refuse; and with no rule that lint warns about, nothing is left open.
              if (here?.reason === "fault") expect(drawn).toBe(one.drawn);
              else expect(here?.permitted, `${action} ${field}`).toBe(there?.permitted);
            }
          }
        }
      }),
      { seed, numRuns: runs / 4 },
    );
    for (const [what, count] of Object.entries(counts)) expect([what, count > 20]).toEqual([what, true]);
  });

  it("holds nothing of rules that cannot apply to the person", () => {
    const text = JSON.stringify(snapshotOf(museumSession("s-008")));
    expect(text).toContain("volunteers-know-their-building");
    const rules = [...text.matchAll(/"rule":"([^"]+)"/g)].map(([, rule]) => rule);
    expect(rules).not.toContain("objects/registrar-keeps-the-books");
    expect(new Set(rules).size).toBeLessThan(25);
  });

  it("of another version is refused", () => {
    expect(() => openSnapshot({ portier: "snapshot 0" } as unknown as Snapshot)).toThrow(
      /not a snapshot of this version/,
    );
  });
});
