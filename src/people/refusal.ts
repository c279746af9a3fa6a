import type { Facts, MistakeCode, Problem } from "../schema/problems.js";
import { givingProblem } from "./giving-problem.js";

/** Why a change is refused. It is thrown while the change is judged: the first reason ends that. */
class Refused extends Error {
  readonly problem: Problem;

  constructor(why: Problem) {
    super(why.message);
    this.problem = why;
  }
}

export function refuse<C extends MistakeCode>(code: C, facts: Facts<C>): never {
  throw new Refused(givingProblem(code, facts));
}

/** What judging comes to, or the problem for which it was refused. */
export function refusalOf<T>(judge: () => T): { readonly value: T } | { readonly problem: Problem } {
  try {
    return { value: judge() };
  } catch (error) {
    if (error instanceof Refused) return { problem: error.problem };
    throw error;
  }
}
