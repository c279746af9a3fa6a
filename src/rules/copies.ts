import { keyOf } from "../conditions/simplify.js";
import type { Extent, Rule } from "./rule.js";

/** The rule that another one is a copy of, as long as they differ in nothing but whom they are for. */
export function originalOf(copy: Rule, rules: readonly Rule[]): Rule | undefined {
  const original = rules.find(({ address, table }) => address === copy.copyOf && table === copy.table);
  return original !== undefined && isSamePart(copy, original) ? original : undefined;
}

function isSamePart(one: Rule, other: Rule): boolean {
  return partOf(one) === partOf(other);
}

function partOf({ effect, except, where, becomes, alsoAfter, from, until, extents, note }: Rule): string {
  const sizes = [...extents].map(([action, extent]) => [action, extentOf(extent)]).sort();
  const whom = except.map(({ text }) => text).sort();
  const conditions = [keyOf(where), becomes && keyOf(becomes)];
  return JSON.stringify([effect.name, whom, conditions, alsoAfter, from, until, note, sizes]);
}

function extentOf({ fields, act, cells }: Extent): unknown {
  const names = [...fields].map(({ name }) => name).sort();
  return [names, act, cells && [cells.ranges, cells.except]];
}
