import { fieldType } from "./field-type.js";

/** How deep an opaque value may nest; a deeper one does not fit. */
const depthLimit = 100;

/** JSON with the keys of every object in order, so that equal values have equal texts; undefined for what is not JSON. */
function canonicalJson(value: unknown, depth = 0): string | undefined {
  if (depth > depthLimit) return undefined;
  if (value === null || typeof value === "boolean" || typeof value === "string") return JSON.stringify(value);
  if (typeof value === "number") return Number.isFinite(value) ? JSON.stringify(value) : undefined;
  if (typeof value !== "object") return undefined;
  const parts: string[] = [];
  if (Array.isArray(value)) {
    for (let i = 0; i < value.length; i++) {
      const part = canonicalJson(value[i], depth + 1);
      if (part === undefined) return undefined;
      parts.push(part);
    }
    return `[${parts.join(",")}]`;
  }
  for (const key of Object.keys(value).sort()) {
    const part = canonicalJson((value as Record<string, unknown>)[key], depth + 1);
    if (part === undefined) return undefined;
    parts.push(`${JSON.stringify(key)}:${part}`);
  }
  return `{${parts.join(",")}}`;
}

/** An opaque value. Conditions may only ask whether it is null. */
export const json = /* @__PURE__ */ fieldType({
  name: "json",
  noun: "json value",
  expects: "a JSON value",
  base: "json",
  canonical: (value) => canonicalJson(value),
  literal: (value) => String(value),
});

/** A value of its own with the same content, for a value that is JSON. */
export function copyJson(value: unknown): unknown {
  return typeof value === "object" && value !== null ? JSON.parse(JSON.stringify(value)) : value;
}
