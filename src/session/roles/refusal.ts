import type { ErrorCode, Facts } from "../../schema/problems.js";

/** Why a change of who holds what is refused: a code, and the facts that its sentence is made of. */
export interface RefusedRoles {
  readonly code: ErrorCode;
  readonly facts: object;
}

/** It is thrown while the change is judged: the first reason ends that. */
class Refused extends Error implements RefusedRoles {
  readonly code: ErrorCode;
  readonly facts: object;

  constructor(code: ErrorCode, facts: object) {
    super(code);
    this.code = code;
    this.facts = facts;
  }
}

export function refuse<C extends ErrorCode>(code: C, facts: Facts<C>): never {
  throw new Refused(code, facts);
}

/** What judging comes to, or why it was refused. */
export function refusalOf<T>(judge: () => T): { readonly value: T } | { readonly refused: RefusedRoles } {
  try {
    return { value: judge() };
  } catch (error) {
    if (error instanceof Refused) return { refused: error };
    throw error;
  }
}
