/**
 * A check of plain JSON, whatever the order of its properties: FNV-1a over its texts, in 32 bits, twice with different
 * beginnings. (Fowler, Noll, Vo: draft-eastlake-fnv)
 */
export function checksumOf(value: unknown): string {
  let [one, other] = [0x811c9dc5, 0x01000193];
  const add = (text: string) => {
    for (let i = 0; i < text.length; i++) {
      const unit = text.charCodeAt(i);
      one = Math.imul(one ^ unit, 0x01000193);
      other = Math.imul(other ^ unit, 0x01000193) + i;
    }
  };
  const walk = (part: unknown): void => {
    if (typeof part !== "object" || part === null) {
      add(`${JSON.stringify(part)},`);
      return;
    }
    add(Array.isArray(part) ? "[" : "{");
    for (const [key, inner] of Object.entries(part).sort(([a], [b]) => (a < b ? -1 : 1))) {
      if (inner === undefined) continue;
      add(`${JSON.stringify(key)}:`);
      walk(inner);
    }
    add("]");
  };
  walk(value);
  return [one, other].map((half) => (half >>> 0).toString(16).padStart(8, "0")).join("");
}

/** The check of a snapshot, from those of its tables and of its steps for each action: a server works these out once. */
export function snapshotChecksum(
  { tables, steps, ...rest }: { readonly tables?: unknown; readonly steps?: unknown; readonly [more: string]: unknown },
  check: (part: unknown) => string = checksumOf,
): string {
  return checksumOf({ ...rest, tables: checksIn(tables, 1, check), steps: checksIn(steps, 2, check) });
}

function checksIn(value: unknown, depth: number, check: (part: unknown) => string): unknown {
  if (depth === 0 || typeof value !== "object" || value === null) return check(value);
  const inside = (one: unknown) => checksIn(one, depth - 1, check);
  if (Array.isArray(value)) return value.map(inside);
  return Object.fromEntries(Object.entries(value).map(([key, one]) => [key, inside(one)]));
}
