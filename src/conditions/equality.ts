import type { Scalar } from "../schema/scalar.js";
import { type Field, lastOf } from "../schema/schema.js";
import { storedValue } from "../schema/types/stored-form.js";
import type { Expression, Operand } from "./expression.js";
import { type Reading, rawValue } from "./read.js";
import { isSessionOperand } from "./session-operand.js";
import type { Row } from "./source.js";
import { Bad, False, True, type Truth, Unknown } from "./truth.js";

/** What a field is held against: a constant, or the place of a value among those of the session. */
type Sought = { readonly constant: Scalar } | { readonly slot: number };

/** What it comes to: truth values, or a yes and no. */
interface Outcomes<T> {
  readonly onEqual: T;
  readonly onOther: T;
  readonly onNull: T;
  /** A value that does not fit its type. */
  readonly onBad: T;
}

type Test<T> = (row: Row, reading: Reading) => T;

/** `slot` is -1 for a constant; `others` are texts that are values of the type: true for each. */
type Maker = <T>(
  name: string,
  constant: Scalar | undefined,
  slot: number,
  others: readonly string[] | true,
  outcomes: Outcomes<T>,
  slow: Test<T>,
) => Test<T>;

/**
 * Copies of one text: an engine remembers for each place in the code where a value lies in a record, so a place of its own
 * for each field is looked at 2 to 3 times faster than one for all of them (see bench/). Nothing is made from text at run
 * time, which a page may not do. A field keeps its copy; where there are more fields than copies, some share one.
 */
// biome-ignore format: one copy a line
const copies: readonly Maker[] = [
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
  (n, c, s, o, { onEqual: e, onOther: d, onNull: u }, w) => (r, g) => { const v = s < 0 ? c : g.values?.[s], x = r[n]; if (x === null) return u; if (v !== undefined) { if (x === v) return e; if (typeof x === "string") { if (o === true) return d; for (let i = 0; i < o.length; i++) if (o[i] === x) return d; } } return w(r, g); },
];

/** Choices up to here are looked through one by one. */
const most = 16;

const copyOf = new WeakMap<Field, Maker>();
let next = 0;

/**
 * The most frequent tests of all: whether a field that the record holds itself is, is not, or belongs to one value. `as`
 * says what a truth value comes to. Undefined for any other test.
 */
export function compileEquality<T>(test: Expression, as: (truth: Truth) => T): Test<T> | undefined {
  if (test.kind === "compare" && (test.op === "=" || test.op === "<>")) {
    const { op, left, right } = test;
    const outcomes: Outcomes<T> = {
      onEqual: as(op === "=" ? True : False),
      onOther: as(op === "=" ? False : True),
      onNull: as(Unknown),
      onBad: as(Bad),
    };
    return equality(left, right, outcomes) ?? equality(right, left, outcomes);
  }
  if (test.kind !== "belongs" || lastOf(test.path).type.base === "list" || test.subject.type.base === "list") {
    return undefined;
  }
  const owner: Operand = { kind: "field", type: lastOf(test.path).type, path: test.path };
  return equality(owner, test.subject, { onEqual: as(True), onOther: as(False), onNull: as(False), onBad: as(Bad) });
}

function equality<T>(one: Operand, other: Operand, outcomes: Outcomes<T>): Test<T> | undefined {
  if (one.kind !== "field" || one.path.length > 1 || one.path[0].by !== undefined) return undefined;
  const sought = soughtIn(other);
  return sought && fieldEquals(one.path[0], sought, outcomes);
}

function soughtIn(operand: Operand): Sought | undefined {
  if (operand.kind === "constant") return operand.value === null ? undefined : { constant: operand.value };
  return isSessionOperand(operand) && operand.slot !== undefined ? { slot: operand.slot } : undefined;
}

function fieldEquals<T>(field: Field, sought: Sought, outcomes: Outcomes<T>): Test<T> {
  const { name, type } = field;
  const isConstant = "constant" in sought;
  const slow: Test<T> = (row, reading) => {
    const raw = rawValue(row, name);
    if (raw === null) return outcomes.onNull;
    const value = isConstant ? sought.constant : reading.values?.[sought.slot];
    const stored = storedValue(type, raw);
    if (stored === undefined) reading.badData(field, row);
    if (stored === undefined || value === undefined) return outcomes.onBad;
    return stored === value ? outcomes.onEqual : outcomes.onOther;
  };
  // Inherited names, such as "constructor", are no values.
  if (name in Object.prototype) return slow;
  const make = copyOf.get(field) ?? (copies[next++ % copies.length] as Maker);
  copyOf.set(field, make);
  // Every text is canonical, and of a short list each value is.
  const short = type.choices !== undefined && type.choices.length <= most ? type.choices : [];
  const others = type.base === "text" || short;
  return make(name, isConstant ? sought.constant : undefined, isConstant ? -1 : sought.slot, others, outcomes, slow);
}
