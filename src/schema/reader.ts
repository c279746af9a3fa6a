import { labelFromName } from "./label.js";
import { limits } from "./limits.js";
import type { Path } from "./problems.js";
import type { Problems } from "./report.js";
import { type IgnoredWarnings, meansNothing } from "./schema.js";

/** One part of a document that is being checked: its value, its place, and the list that problems go to. */
export interface Part {
  readonly value: unknown;
  readonly path: Path;
  readonly problems: Problems;
}

export function isMapping(value: unknown): value is Record<string, unknown> {
  return typeof value === "object" && value !== null && !Array.isArray(value);
}

/** The part's entries as a map, which has no prototype to stumble over; an empty one (and a problem) if it is none. */
export function readMapping(part: Part, what: string): Map<string, Part> {
  if (!isMapping(part.value)) {
    part.problems.add("wrong-shape", { what, expected: "a mapping", found: part.value }, part.path);
    return new Map();
  }
  return new Map(
    Object.entries(part.value).map(([key, value]) => [
      key,
      { value, path: [...part.path, key], problems: part.problems },
    ]),
  );
}

/** As {@link readMapping}, for a mapping with a fixed set of keys. An undefined value counts as not given. */
export function readShape<K extends string>(part: Part, what: string, keys: readonly K[]): Map<K, Part> {
  const known = new Set<string>(keys);
  const shape = new Map<K, Part>();
  for (const [key, entry] of readMapping(part, what)) {
    if (!known.has(key)) part.problems.add("unknown-key", { what, name: key, candidates: keys }, entry.path);
    else if (entry.value !== undefined) shape.set(key as K, entry);
  }
  return shape;
}

export function readText(part: Part | undefined, what: string): string | undefined {
  if (part === undefined) return undefined;
  if (typeof part.value === "string") return part.value;
  part.problems.add("wrong-shape", { what, expected: "a text", found: part.value }, part.path);
  return undefined;
}

/** What people read instead of a name; made from the name where none is given. */
export function readLabel(part: Part | undefined, name: string): string {
  const label = readText(part, `label of "${name}"`);
  if (label === undefined) return labelFromName(name);
  if (label.trim() !== "" && label.length <= limits.nameLength && !/\p{Cc}/u.test(label)) return label;
  const expected = `a line of 1 to ${limits.nameLength} characters`;
  part?.problems.add("wrong-shape", { what: `label of "${name}"`, expected, found: label }, part.path);
  return label;
}

/** `ignore`: warnings that are not raised about a part: the code of each, with the reason. */
export function readIgnore(part: Part | undefined): IgnoredWarnings {
  if (part === undefined) return meansNothing;
  const reasons = [...readMapping(part, "ignore")].map(
    ([code, entry]) => [code, readText(entry, `ignore: ${code}`)] as const,
  );
  return new Map(reasons.flatMap(([code, reason]) => (reason === undefined ? [] : [[code, reason] as const])));
}

export function readFlag(part: Part | undefined, what: string): boolean {
  if (part === undefined) return false;
  if (typeof part.value === "boolean") return part.value;
  part.problems.add("wrong-shape", { what, expected: "true or false", found: part.value }, part.path);
  return false;
}

/** A text or a list of texts, each with its own place. */
export function readTexts(part: Part | undefined, what: string): Part[] {
  if (part === undefined) return [];
  if (typeof part.value === "string") return [part];
  if (!Array.isArray(part.value)) {
    part.problems.add("wrong-shape", { what, expected: "a name or a list of names", found: part.value }, part.path);
    return [];
  }
  const entries = part.value.map((value, index): Part => ({ ...part, value, path: [...part.path, index] }));
  return entries.filter((entry) => readText(entry, what) !== undefined);
}

/** Checks a name that an author chose. Names become keys of objects, so the one that JavaScript treats apart is an error. */
export function checkName(part: Part, what: string, name: string): boolean {
  const rule =
    name === ""
      ? "a name has at least one character"
      : name.length > limits.nameLength
        ? `a name has at most ${limits.nameLength} characters`
        : name === "__proto__"
          ? "this name is reserved"
          : /\p{Cc}/u.test(name)
            ? "a name has no control characters"
            : undefined;
  if (rule === undefined) return true;
  part.problems.add("bad-name", { what, name, rule }, part.path);
  return false;
}
