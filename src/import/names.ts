import type { FoundColumn, FoundTable } from "./found.js";

/** A table by its schema and name. */
export function fullName({ schema, name }: Pick<FoundTable, "schema" | "name">): string {
  return schema === undefined ? name : `${schema}.${name}`;
}

/** Whether a column becomes a field. */
export function isDeclared({ name, type }: FoundColumn): boolean {
  return type !== undefined && isName(name);
}

export function isName(name: string): boolean {
  const isWord = !/[/\p{Cc}]|\.\.|^-|^tag |^\s|\s$/u.test(name);
  return isWord && !["", "*", "all", "yes", "__proto__"].includes(name);
}
