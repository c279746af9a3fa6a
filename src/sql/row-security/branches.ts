import { type Formula, formula, isFixed, print } from "../formula.js";

/** A part of a condition: where the guard, which asks the current user alone, is met, that is left to ask of a record. */
export interface Branch {
  readonly guard: Formula;
  readonly rest: Formula;
}

/** A product of more would be read by nobody. */
const most = 6;

const always = formula("and", []);

/** A condition as branches, any of which makes it true. */
export function branchesOf(one: Formula): readonly Branch[] {
  if (isFixed(one) && (one.kind !== "or" || one.terms.length === 0)) return [{ guard: one, rest: always }];
  if (one.kind === "test") return [{ guard: always, rest: one }];
  if (one.kind === "or") return underGuards(one.terms.flatMap(branchesOf));
  const fixed = one.terms.filter(isFixed);
  let product: readonly Branch[] = [{ guard: formula("and", fixed), rest: always }];
  for (const term of one.terms.filter((other) => !isFixed(other))) {
    const parts = branchesOf(term);
    const each = product.length * parts.length > most ? [{ guard: always, rest: term }] : parts;
    product = product.flatMap((known) =>
      each.map(({ guard, rest }) => ({
        guard: formula("and", [known.guard, guard]),
        rest: formula("and", [known.rest, rest]),
      })),
    );
  }
  return underGuards(product);
}

/** Branches under the same guard are one. */
function underGuards(branches: readonly Branch[]): readonly Branch[] {
  const found = new Map<string, Branch>();
  for (const one of branches) {
    const id = JSON.stringify(print(one.guard));
    const known = found.get(id);
    found.set(id, known === undefined ? one : { guard: one.guard, rest: formula("or", [known.rest, one.rest]) });
  }
  return [...found.values()];
}
