import type { Operand, SessionOperand } from "../conditions/expression.js";
import { compileRead, type Reading } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import type { Schema } from "../schema/schema.js";
import { dayIn } from "../schema/types/date.js";
import { canonicalTimestamp, timestamp, timestampOf } from "../schema/types/timestamp.js";
import type { Memberships } from "./memberships.js";

/** The values of a request, canonical; `now` is always among them. */
export function readRequest(schema: Schema, given: Readonly<Record<string, unknown>>): Map<string, Scalar | null> {
  const values = new Map<string, Scalar | null>();
  for (const name of Object.keys(given)) {
    const type = schema.request.get(name);
    const value = given[name];
    if (name === "now") {
      if (value === undefined) continue;
      const now = value instanceof Date ? timestampOf(value) : canonicalTimestamp(value);
      const { expects } = timestamp;
      if (now === undefined) throw portierError("bad-value", { field: "request.now", expects, found: value });
      values.set(name, now);
    } else if (type === undefined) {
      throw portierError("unknown-request", { name, candidates: ["now", ...schema.request.keys()] });
    } else if (value === null || value === undefined) {
      values.set(name, null);
    } else {
      const canonical = type.canonical(value);
      if (canonical === undefined) {
        throw portierError("bad-value", { field: `request.${name}`, expects: type.expects, found: value });
      }
      values.set(name, canonical);
    }
  }
  if (!values.has("now")) values.set("now", timestampOf(new Date()) ?? null);
  return values;
}

/** What a request says of an operand. */
export function requestValue(
  operand: Extract<SessionOperand, { readonly kind: "request" | "today" }>,
  request: ReadonlyMap<string, Scalar | null>,
  { timeZone }: Pick<Schema, "timeZone">,
): Scalar | null {
  if (operand.kind === "request") return request.get(operand.name) ?? null;
  return dayIn(Date.parse(request.get("now") as string), timeZone);
}

/** A session's value for an operand, read once. */
interface Constant {
  /** May throw a fault. */
  readonly read: () => Operand;
  /** Tells classes of subjects apart. */
  readonly fact: unknown;
  /** Undefined for null, and for what cannot be read. */
  readonly value: Scalar | undefined;
}

export interface ConstantSources {
  readonly person: Row | undefined;
  readonly memberships: Memberships | undefined;
  readonly request: ReadonlyMap<string, Scalar | null>;
  readonly reading: Reading;
  readonly schema: Schema;
}

export function readConstant(
  operand: SessionOperand,
  { person, memberships, request, reading, schema }: ConstantSources,
): Constant {
  const { type } = operand;
  const constant = (value: Scalar | null | undefined): Constant => {
    const made: Operand = value === undefined ? { kind: "unreadable", type } : { kind: "constant", type, value };
    return { read: () => made, fact: value === undefined ? ["unreadable"] : value, value: value ?? undefined };
  };
  if (operand.kind === "request" || operand.kind === "today") return constant(requestValue(operand, request, schema));
  if (operand.kind === "held") {
    const records = memberships === undefined ? new Set<string>() : memberships.heldOn(operand.role);
    return constant(records && JSON.stringify([...records].sort()));
  }
  if (person === undefined) return constant(null);
  try {
    return constant(compileRead({ kind: "field", type, path: operand.path })(person, reading));
  } catch (fault) {
    // The person's own records could not be read: only what depends on them fails, and it does not share a plan.
    const read = () => {
      throw fault;
    };
    return { read, fact: { fault: String(fault) }, value: undefined };
  }
}
