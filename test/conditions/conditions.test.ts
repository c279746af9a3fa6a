import fc from "fast-check";
import { compile, PortierError, type Row } from "portier";
import { describe, expect, it } from "vitest";
import { parseCondition } from "../../src/conditions/parser.js";
import { printCondition } from "../../src/conditions/printer.js";
import type { Condition } from "../../src/conditions/syntax.js";
import { comparedAt, comparing, comparisons, nulls } from "../support/comparisons.js";
import { conditions } from "../support/random-documents.js";
import { runsOf } from "../support/runs.js";

/** The tree without the places of its parts, which printing does not keep. */
function withoutPlaces(node: unknown): unknown {
  if (Array.isArray(node)) return node.map(withoutPlaces);
  if (typeof node !== "object" || node === null) return node;
  const entries = Object.entries(node).filter(([key]) => !/^(at|places|tableAt|actionAt|nameAt)$/.test(key));
  return Object.fromEntries(entries.map(([key, value]) => [key, withoutPlaces(value)]));
}

function parsed(text: string): Condition {
  const result = parseCondition(text);
  if ("problems" in result) throw new Error(`${text}: ${JSON.stringify(result.problems)}`);
  return result.condition;
}

describe("a condition", () => {
  it("is read back from its printed form as it was", () => {
    const names = fc.oneof(
      fc.string({ unit: "binary", minLength: 1, maxLength: 6 }),
      fc.constantFrom("me", "not", "Exists", 'a"b', "date", "in", "constructor", "ſ", "x y"),
    );
    const named = names.map(
      (name): Condition => ({
        kind: "is-null",
        negated: false,
        operand: { kind: "path", root: "record", names: [name, name], places: [0, 0], at: 0 },
        at: 0,
      }),
    );
    const quoted = fc.string({ unit: "binary", maxLength: 8 }).map((value): Condition => {
      const text = { kind: "text", value, at: 0 } as const;
      return { kind: "match", how: "like", negated: true, operand: text, pattern: text, at: 0 };
    });
    fc.assert(
      fc.property(fc.oneof({ weight: 3, arbitrary: conditions }, named, quoted), (condition) => {
        const printed = printCondition(condition);
        const again = parsed(printed);
        expect(withoutPlaces(again)).toEqual(withoutPlaces(condition));
        expect(printCondition(again)).toBe(printed);
      }),
      { numRuns: runsOf(1_000) },
    );
  });

  it.each([
    [
      "status = 'a' OR NOT level IN (1,2) And due is NOT null",
      "status = 'a' or not level in (1, 2) and due is not null",
    ],
    ["((a = 1))", "a = 1"],
    ["a = 1 and (b = 2 and c = 3)", "a = 1 and (b = 2 and c = 3)"],
    ["not (a = 1 or b = 2)", "not (a = 1 or b = 2)"],
    ["me.department=department", "me.department = department"],
    ['"the name" = "say ""so"""', '"the name" = "say ""so"""'],
    ["keeper.not = x", "keeper.not = x"],
    ["due<today+3 day", "due < today + 3 days"],
    ["due < today - 1 days", "due < today - 1 day"],
    ["title not  starts   with 'it''s'", "title not starts with 'it''s'"],
    ["level not between -1 and 2.50", "level not between -1 and 2.50"],
    ["at >= timestamp '2027-01-31T09:00:00Z'", "at >= timestamp '2027-01-31T09:00:00Z'"],
    ["true", "true"],
    ["true = active", "true = active"],
    ["owner = me and this.owner = owner.boss", "owner = me and this.owner = owner.boss"],
  ])("%s is printed as %s", (text, printed) => {
    expect(printCondition(parsed(text))).toBe(printed);
  });

  it.each([
    ["", 0, "the end of the condition"],
    ["status =", 8, "the end of the condition"],
    ["status = 'open", 9, "a text that begins"],
    ["status == 'open'", 8, '"="'],
    ["status = 'open' status", 16, '"status"'],
    ["(status = 'open'", 16, "the end of the condition"],
    ["status in 'open'", 10, "a value"],
    ["status in ()", 11, '")"'],
    ["status like", 11, "the end of the condition"],
    ["level between 1", 15, "the end of the condition"],
    ["due + 3 = today", 8, '"="'],
    ["status != 'open'", 7, "!"],
    ["status is (open)", 10, '"("'],
    ["a. = 1", 3, '"="'],
    ["and = 1", 0, '"and"'],
    ["level = 1 ; drop", 10, ";"],
  ])("%s is refused at column %i", (text, at, found) => {
    const result = parseCondition(text);
    expect(result).toMatchObject({ problems: [{ code: "condition-syntax", at }] });
    if ("problems" in result) {
      expect(result.problems[0]?.found).toContain(found.replaceAll('"', ""));
      expect(result.problems[0]?.expected).not.toBe("");
    }
  });

  it.each<[string, number[]]>([
    ["a = and b == 1 or c like", [4, 11, 24]],
    ["(a = and b is) and c in ()", [5, 13, 25]],
    ["(a = 1 and b ~ 2", [13]],
    ["a between and 3 and b =", [10, 23]],
    ["not (a == 1) and exists (t when b = 1) and c = 1", [8, 27]],
    ["a = 1 b = 2 or c = ", [6, 19]],
    ["((((", [4]],
  ])("names each wrong test of %s once", (text, places) => {
    const result = parseCondition(text);
    expect("problems" in result ? result.problems.map(({ at }) => at) : []).toEqual(places);
  });

  it("of any words at all is read or refused, with each problem at a place of its own", () => {
    const words =
      "a and or not ( ) = < in between is null exists may like starts with , . 'x' 1 + day me where -".split(" ");
    const texts = fc.array(fc.constantFrom(...words, "'", "!"), { maxLength: 14 }).map((list) => list.join(" "));
    fc.assert(
      fc.property(texts, (text) => {
        const result = parseCondition(text);
        if ("condition" in result) return;
        const places = result.problems.map(({ at }) => at);
        expect(places.length).toBeGreaterThan(0);
        expect(new Set(places).size).toBe(places.length);
        for (const at of places) expect(at).toBeLessThanOrEqual(text.length);
      }),
      { numRuns: runsOf(2_000) },
    );
  });

  it("nests 100 deep and no deeper", () => {
    const nested = (depth: number) => `${"(".repeat(depth)}a = 1${")".repeat(depth)}`;
    expect(parseCondition(nested(100))).toHaveProperty("condition");
    expect(parseCondition(nested(101))).toMatchObject({ problems: [{ code: "condition-depth" }] });
    expect(parseCondition("not ".repeat(50_000))).toHaveProperty("problems");
    expect(parseCondition("(".repeat(5_000))).toHaveProperty("problems");
  });
});

/** Whether a condition is true of a record: a permit under it lets through. */
function isTrue(where: string, record: Row): boolean {
  const session = compile(comparing(where)).session({ request: { now: comparedAt } });
  return session.may("view", "things", { ...nulls, ...record });
}

function truth(where: string, record: Row): "true" | "false" | "unknown" {
  if (isTrue(where, record)) return "true";
  return isTrue(`not (${where})`, record) ? "false" : "unknown";
}

describe("values compare", () => {
  it.each(comparisons)("%s of %j: %s", (where, record, expected) => {
    expect(truth(where, record)).toBe(expected);
  });
});

describe("a comparison that cannot be meant is refused when the document is compiled", () => {
  it.each([
    ["name = 1", "type-mismatch"],
    ["size = 'one'", "type-mismatch"],
    ["open = 1", "type-mismatch"],
    ["day = instant", "type-mismatch"],
    ["open < true", "not-ordered"],
    ["size like '1%'", "type-mismatch"],
    ["name in size", "not-a-list"],
    ["day + 3 hours = today", "bad-duration"],
    ["name + 1 day = 'a'", "bad-duration"],
    ["day = date '2027-02-30'", "bad-literal"],
    ["instant = timestamp '2027-01-31T09:00:00'", "bad-literal"],
    ["nme = 'a'", "unknown-field"],
    ["name.first = 'a'", "not-a-reference"],
    ["me.name = name", "no-people"],
    ["owner = me", "no-owner"],
    ["request.site = 'north'", "unknown-request"],
  ])("%s: %s", (where, code) => {
    let found: unknown;
    try {
      isTrue(where, {});
    } catch (error) {
      found = error;
    }
    expect(found).toBeInstanceOf(PortierError);
    expect((found as PortierError).code).toBe(code);
  });
});
