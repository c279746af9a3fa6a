/**
 * On how many records something is permitted: `all` and `none` are promises, `own` means only through ownership,
 * `some` that it depends on the record (or that no promise can be shown).
 */
export type Reach = "all" | "own" | "some" | "none";

/** From the least to the most. */
export const reachOrder: readonly Reach[] = ["none", "own", "some", "all"];

/** Of several ways to the same thing, the best. */
export function anyReach(reaches: readonly Reach[]): Reach {
  if (reaches.includes("all")) return "all";
  if (reaches.includes("some")) return "some";
  return reaches.includes("own") ? "own" : "none";
}

/** Of several things that are all needed, the worst. */
export function bothReach(a: Reach, b: Reach): Reach {
  for (const worst of ["none", "own", "some"] as const) {
    if (a === worst || b === worst) return worst;
  }
  return "all";
}
