import fc from "fast-check";
import { define, PortierError } from "portier";
import { describe, expect, it } from "vitest";
import { parseCondition } from "../../src/conditions/parser.js";
import type { OperandSyntax } from "../../src/conditions/syntax.js";
import { choice } from "../../src/schema/types/choice.js";
import type { FieldType } from "../../src/schema/types/field-type.js";
import { scalarTypes } from "../../src/schema/types/scalars.js";

// Operands once went into conditions as they came, so `record.worth.isAbove("100 or 1 = 1")` was a rule that is always met.

const fields = {
  id: "text",
  title: "text",
  size: "integer",
  worth: "decimal",
  open: "boolean",
  day: "date",
  at: "timestamp",
  state: { choice: ["new", "old"] },
  tags: { list: "text" },
  sizes: { list: "integer" },
  sums: { list: "decimal" },
  days: { list: "date" },
  times: { list: "timestamp" },
  states: { list: { choice: ["new", "old"] } },
  room: { reference: "rooms" },
  rooms: { list: { reference: "rooms" } },
  room_size: { lookup: { through: "room", field: "size" } },
} as const;
const types = {
  ...{ title: "text", size: "integer", worth: "decimal", open: "boolean", day: "date", at: "timestamp" },
  ...{ tags: "text", sizes: "integer", sums: "decimal", days: "date", times: "timestamp" },
  ...{ room: "integer", rooms: "integer", room_size: "decimal" },
} as const satisfies Readonly<Record<string, keyof typeof scalarTypes>>;
const names = Object.keys(fields).filter((name) => name !== "id");
const matches = ["isLike", "startsWith", "endsWith", "contains"];
const operators = ["is", "isNot", "isOneOf", "isBelow", "isAtMost", "isAbove", "isAtLeast", "includes", ...matches];

type Operators = Readonly<Record<string, (value: unknown) => { readonly text: string }>>;

function written(field: string, operator: string, value: unknown): string {
  let text = "";
  define({
    tables: {
      rooms: { key: "no", fields: { no: "integer", size: "decimal" } },
      things: { key: "id", fields },
    },
  }).rules({
    things: {
      one: {
        to: "anyone",
        where: ({ record }) => {
          const condition = (record as unknown as Record<string, Operators>)[field]?.[operator]?.(value);
          text = condition?.text ?? "";
          return condition as never;
        },
        permit: { view: "all" },
      },
    },
  });
  return text;
}

const hostile = fc.oneof(
  {
    weight: 9,
    arbitrary: fc.constantFrom<unknown>(
      ..."100 or 1 = 1|1) or (true|' or ''='|2027-01-31' or true or day = date '2027-01-31|1 -- |1e3|--1|0x10|1.|.5".split(
        "|",
      ),
      ..."new' or true or state = 'new|true|null|me|today|2027-01-31|2027-01-31T00:00:00Z|new|1|1.50|-2".split("|"),
      ...[1, -0, 1.5, 1e21, 1e-7, Number.NaN, Number.POSITIVE_INFINITY, 2 ** 53, 7n, true, null, undefined],
      ...[[], ["a"], {}, { text: "true" }, new Date(0), () => "true", Symbol.iterator],
    ),
  },
  fc.string({ unit: "binary", maxLength: 12 }),
  fc.double(),
);

/** The values that a parsed condition compares with; undefined where it is more than one test of the field. */
function operandsIn(text: string, field: string): readonly OperandSyntax[] | undefined {
  const parsed = parseCondition(text);
  if ("problems" in parsed) throw new Error(`${text} cannot be read`);
  const { condition } = parsed;
  const isField = (one: OperandSyntax) => one.kind === "path" && one.root === "record" && one.names.join() === field;
  if (condition.kind === "compare") return isField(condition.left) ? [condition.right] : undefined;
  if (condition.kind === "in") return isField(condition.operand) ? condition.items : undefined;
  if (condition.kind === "match") return isField(condition.operand) ? [condition.pattern] : undefined;
  if (condition.kind === "in-list") return isField(condition.list) ? [condition.operand] : undefined;
  return undefined;
}

/** Whether the value went into the condition, as itself. */
function expectValueOrError(field: string, operator: string, value: unknown): boolean {
  let text: string;
  try {
    text = written(field, operator, operator === "isOneOf" ? [value, value] : value);
  } catch (error) {
    expect(error).toBeInstanceOf(PortierError);
    return false;
  }
  const operands = operandsIn(text, field);
  expect(operands, text).toHaveLength(operator === "isOneOf" ? 2 : 1);
  const type = typeOf(field, operator);
  const isNumber = type.base === "integer" || type.base === "decimal";
  const canonical = isNumber ? scalarTypes.decimal.canonical(String(value)) : type.canonical(value);
  expect(canonical).toBeDefined();
  for (const operand of operands ?? []) {
    const spelled = operand.kind === "number" ? operand.digits : "value" in operand ? operand.value : undefined;
    expect(isNumber ? scalarTypes.decimal.canonical(spelled) : type.canonical(spelled), text).toBe(canonical);
  }
  return true;
}

function typeOf(field: string, operator: string): FieldType {
  const declared = matches.includes(operator) ? "text" : types[field as keyof typeof types];
  return declared === undefined ? choice(["new", "old"]) : scalarTypes[declared];
}

const right = {
  ...{ text: "100 or 1 = 1", integer: 7, decimal: "-1.50", boolean: true },
  ...{ date: "2027-01-31", timestamp: "2027-01-31T09:00:00+01:00", choice: "new" },
} as const;

describe("an operand of a typed condition", () => {
  it.each(names)("is a value of the type of %s, or an error: never a part of the condition", (field) => {
    for (const operator of operators) {
      const { base } = typeOf(field, operator);
      expect(expectValueOrError(field, operator, right[base as "text"]), `${operator} ${base}`).toBe(true);
      let errors = 0;
      const hold = (value: unknown) => {
        if (!expectValueOrError(field, operator, value)) errors++;
      };
      fc.assert(fc.property(hostile, hold), { numRuns: 120 });
      expect(errors, operator).toBeGreaterThan(10);
    }
  });
});
