import type { Row } from "../conditions/source.js";
import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import type { SortKey } from "../session/sort.js";

/**
 * A place in a list, as a text to be handed back: what the record there holds in the fields of the order, as the person sees
 * it. It tells them nothing, and whoever makes one up begins at another place.
 */
export function cursorOf(sort: readonly string[], keys: readonly SortKey[], seen: Row): string {
  const values = keys.map(({ field: { name, type } }) => {
    const value = Object.hasOwn(seen, name) ? seen[name] : null;
    return value === null || value === undefined ? null : (type.canonical(value) ?? null);
  });
  return JSON.stringify([sort, values]);
}

/**
 * The values of the place, in the fields of the order.
 *
 * @throws PortierError (`bad-value`) for a text that is none, or one of another order.
 */
export function readCursor(
  text: string,
  sort: readonly string[],
  keys: readonly SortKey[],
): readonly (Scalar | null)[] {
  const expects = "the `next` of a page in the same order";
  const wrong = () => portierError("bad-value", { field: "after", expects, found: text });
  const read = parsed(text);
  if (!Array.isArray(read) || JSON.stringify(read[0]) !== JSON.stringify(sort)) throw wrong();
  const values: unknown = read[1];
  if (!Array.isArray(values) || values.length !== keys.length) throw wrong();
  return keys.map(({ field: { type } }, index) => {
    const value: unknown = values[index];
    const canonical = value === null ? null : type.canonical(value);
    if (canonical === undefined) throw wrong();
    return canonical;
  });
}

function parsed(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return undefined;
  }
}
