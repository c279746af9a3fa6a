import { type Formula, formula, isFixed, print } from "../formula.js";

/** A part of a condition: where this holds of the one who asks, that is left to ask of a record. */
export interface Branch {
  readonly guard: Formula;
  readonly rest: Formula;
}

/** More would be planned for longer than they are read. */
const most = 6;

const always = formula("and", []);

/**
 * A condition as branches, any of which makes it true: each is planned for itself, and those whose guard is not met are
 * not looked into. Those that leave nothing to ask come first.
 */
export function branchesOf(condition: Formula): readonly Branch[] {
  const all = split(condition);
  // Each role for itself, as far as there are few: what one holder sees is then as simple as it can be.
  const found = [...(all.length <= most ? all : merged(all))].sort((a, b) => openness(a) - openness(b));
  if (found.length <= most) return found;
  const [kept, others] = [found.slice(0, most - 1), found.slice(most - 1)];
  const guard = formula(
    "or",
    others.map((one) => one.guard),
  );
  const rest = formula(
    "or",
    others.map((one) => formula("and", [one.guard, one.rest])),
  );
  return [...kept, { guard, rest }];
}

function openness({ rest }: Branch): number {
  return isFixed(rest) ? 0 : 1;
}

function split(one: Formula): readonly Branch[] {
  if (isFixed(one) && (one.kind !== "or" || one.terms.length === 0)) return [{ guard: one, rest: always }];
  if (one.kind === "test") return [{ guard: always, rest: one }];
  if (one.kind === "or") return underGuards(one.terms.flatMap(split));
  const fixed = one.terms.filter(isFixed);
  let product: readonly Branch[] = [{ guard: formula("and", fixed), rest: always }];
  for (const term of one.terms.filter((other) => !isFixed(other))) {
    const parts = split(term);
    // A product of many would only be put together again.
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

/** Branches that leave the same to ask are one. */
function merged(branches: readonly Branch[]): readonly Branch[] {
  return together(
    branches,
    ({ rest }) => rest,
    (a, b) => ({ guard: formula("or", [a.guard, b.guard]), rest: a.rest }),
  );
}

/** So are those under the same guard. */
function underGuards(branches: readonly Branch[]): readonly Branch[] {
  return together(
    branches,
    ({ guard }) => guard,
    (a, b) => ({ guard: a.guard, rest: formula("or", [a.rest, b.rest]) }),
  );
}

function together(
  branches: readonly Branch[],
  by: (branch: Branch) => Formula,
  join: (a: Branch, b: Branch) => Branch,
): readonly Branch[] {
  const found = new Map<string, Branch>();
  for (const one of branches) {
    const id = JSON.stringify(print(by(one)));
    const known = found.get(id);
    found.set(id, known === undefined ? one : join(known, one));
  }
  return [...found.values()];
}
