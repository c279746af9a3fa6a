/**
 * A check of plain JSON, whatever the order of its properties: FNV-1a over its texts, in 32 bits, twice with different
 * beginnings. (Fowler, Noll, Vo: draft-eastlake-fnv)
 */
export function checkOf(value: unknown): string {
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
