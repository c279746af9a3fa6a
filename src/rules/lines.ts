import type { Expression } from "../conditions/expression.js";

/** Everybody who holds a role or is in a group, and those below or above them in the manager line. */
export interface Line {
  /** The role or group that the line begins with. */
  readonly of: string;
  /** Whether somebody else with whom it begins is on the way back along the managers, as a condition on a person's record. */
  readonly test: Expression;
}

/** A line as it is written. */
export interface WrittenLine {
  /** `director and below`, `keeper and 2 levels above`: also the name under which memberships know it. */
  readonly text: string;
  /** The role or group that the line begins with. */
  readonly of: string;
  readonly direction: "above" | "below";
  /** Undefined for the whole line. */
  readonly levels: number | undefined;
}

/** Reads `NAME and below`, `NAME and 2 levels above`; undefined for anything else. Names have no spaces in them. */
export function readLine(text: string): WrittenLine | undefined {
  const [, of, number, direction] = /^(\S+)\s+and\s+(?:([1-9]\d{0,3})\s+levels?\s+)?(above|below)$/.exec(text) ?? [];
  if (of === undefined || (direction !== "above" && direction !== "below")) return undefined;
  const levels = number === undefined ? undefined : Number(number);
  const depth = levels === undefined ? "" : `${levels} level${levels === 1 ? "" : "s"} `;
  return { text: `${of} and ${depth}${direction}`, of, direction, levels };
}

/** The way from a member of a line back to whom it begins with. */
export const back = { above: "below", below: "above" } as const;
