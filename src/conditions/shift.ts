import { addDays } from "../schema/types/date.js";
import type { FieldType } from "../schema/types/field-type.js";
import { addMinutes } from "../schema/types/timestamp.js";
import type { Operand } from "./expression.js";
import type { DurationUnit, OperandSyntax } from "./syntax.js";

/** A date or instant moved by some days, hours or minutes. */
type Shift = Extract<Operand, { readonly kind: "shift" }>;
type ShiftSyntax = Extract<OperandSyntax, { readonly kind: "shift" }>;

export const minutesOf: Readonly<Record<DurationUnit, number>> = { day: 24 * 60, hour: 60, minute: 1 };

/** One day more than lies between the first and the last day of the calendar: who moves so far always leaves it. */
const beyondCalendar = 3_652_059;

/** What is moved by a chain of shifts, and the units of all of them. */
export function shiftedOperand(node: ShiftSyntax): {
  readonly inner: OperandSyntax;
  readonly shifts: readonly ShiftSyntax[];
} {
  const shifts: ShiftSyntax[] = [];
  let inner: OperandSyntax = node;
  for (; inner.kind === "shift"; inner = inner.operand) shifts.push(inner);
  return { inner, shifts };
}

/**
 * Shifts add up: `d + 100 days + 1 day` is one shift by 101 days, and only the sum can leave the calendar. So whatever
 * evaluates, writes or prints an operand meets no shift inside a shift.
 */
export function addShifts(operand: Operand, shifts: readonly ShiftSyntax[]): Operand {
  const units = new Set(shifts.map(({ unit }) => unit));
  const [only] = units;
  const unit = units.size === 1 && only !== undefined ? only : "minute";
  const size = minutesOf[unit];
  // Exactly, as the amounts that are written can be as long as a condition.
  const sum = shifts.reduce((total, one) => total + BigInt(one.amount) * BigInt(minutesOf[one.unit] / size), 0n);
  if (sum === 0n) return operand;
  const most = BigInt((beyondCalendar * minutesOf.day) / size);
  const amount = Number(sum > most ? most : sum < -most ? -most : sum);
  return { kind: "shift", type: operand.type, operand, amount, unit };
}

/** A canonical date or instant moved; null where it leaves the calendar, the years 0001 to 9999. */
export function shiftValue(value: string, { type, amount, unit }: Omit<Shift, "kind" | "operand">): string | null {
  const moved = type.base === "date" ? addDays(value, amount) : addMinutes(value, amount * minutesOf[unit]);
  return moved ?? null;
}

/** The first and last value that stay in the calendar when they are moved; undefined where none does. */
export function shiftable(
  type: FieldType,
  amount: number,
  unit: DurationUnit,
): { readonly from: string; readonly to: string } | undefined {
  const [first, last] =
    type.base === "date"
      ? ["0001-01-01", "9999-12-31"]
      : ["0001-01-01T00:00:00.000000Z", "9999-12-31T23:59:59.999999Z"];
  const end = shiftValue(amount < 0 ? first : last, { type, amount: -amount, unit });
  if (end === null) return undefined;
  return amount < 0 ? { from: end, to: last } : { from: first, to: end };
}
