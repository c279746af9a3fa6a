import { allOf, anyOf, type Fragment, shared } from "./fragment.js";

/** A condition over single tests, without "not". The empty "and" is true, the empty "or" false. */
export type Formula =
  | { readonly kind: "and" | "or"; readonly terms: readonly Formula[] }
  /** `id` is the same for tests that are written alike. `isFixed`: it asks only the current user, and nothing of a record. */
  | { readonly kind: "test"; readonly fragment: Fragment; readonly id: string; readonly isFixed: boolean };

export function test(fragment: Fragment, isFixed = false): Formula {
  return { kind: "test", fragment, id: JSON.stringify(fragment), isFixed };
}

/** Whether it asks nothing of a record. */
export function isFixed(one: Formula): boolean {
  return one.kind === "test" ? one.isFixed : one.terms.every(isFixed);
}

/** Flattened, without constants, and without terms that another one makes superfluous. */
export function formula(kind: "and" | "or", terms: readonly Formula[]): Formula {
  const flat: Formula[] = [];
  for (const term of terms) {
    if (term.kind !== kind) flat.push(term);
    else flat.push(...term.terms);
  }
  const decisive = flat.find((term) => term.kind !== "test" && term.kind !== kind && term.terms.length === 0);
  if (decisive !== undefined) return decisive;
  const kept = flat.filter((term, index) => !flat.some((other, at) => isCovered(kind, term, other, at < index)));
  const [only] = kept;
  return only !== undefined && kept.length === 1 ? only : { kind, terms: kept };
}

/** In an "or" a term that implies another adds nothing, in an "and" one that another implies. Of equal ones the first stays. */
function isCovered(kind: "and" | "or", term: Formula, other: Formula, isEarlier: boolean): boolean {
  if (term === other) return false;
  const [stronger, weaker] = kind === "or" ? [term, other] : [other, term];
  return implies(stronger, weaker) && (isEarlier || !implies(weaker, stronger));
}

/** Whether one is true only where the other is, as far as their shapes show. */
export function implies(stronger: Formula, weaker: Formula): boolean {
  if (stronger.kind === "or") return stronger.terms.every((term) => implies(term, weaker));
  if (weaker.kind === "and") return weaker.terms.every((term) => implies(stronger, term));
  if (weaker.kind === "or" && weaker.terms.some((term) => implies(stronger, term))) return true;
  if (stronger.kind === "and") return stronger.terms.some((term) => implies(term, weaker));
  return weaker.kind === "test" && stronger.kind === "test" && stronger.id === weaker.id;
}

/** What is left to test where another formula is known to be true. */
export function given(known: Formula, one: Formula): Formula {
  if (implies(known, one)) return formula("and", []);
  if (one.kind !== "and") return one;
  return formula(
    "and",
    one.terms.filter((term) => !implies(known, term)),
  );
}

/** The same, but tests that are written alike are one and the same, and so are their values. */
export function unified(one: Formula, known: Map<string, Formula>): Formula {
  if (one.kind !== "test") return { kind: one.kind, terms: one.terms.map((term) => unified(term, known)) };
  const same = known.get(one.id) ?? { ...one, fragment: shared(one.fragment) };
  known.set(one.id, same);
  return same;
}

export function isAlways(one: Formula): boolean {
  return one.kind === "and" && one.terms.length === 0;
}

export function isNever(one: Formula): boolean {
  return one.kind === "or" && one.terms.length === 0;
}

export function print(one: Formula): Fragment {
  if (one.kind === "test") return one.fragment;
  return one.kind === "and" ? allOf(one.terms.map(print)) : anyOf(one.terms.map(print));
}
