import { messages } from "./messages.js";
import type { Facts, Path, Problem, ProblemCode } from "./problems.js";

/** Makes one problem from its code and facts. The only place where a sentence meets a code. */
export function problem<C extends ProblemCode>(code: C, facts: Facts<C>, path: Path = [], offset?: number): Problem {
  const say = messages[code] as (facts: Facts<C>) => readonly [message: string, hint?: string | undefined];
  const [message, hint] = say(facts);
  return {
    code,
    message,
    ...(hint === undefined ? {} : { hint }),
    path,
    ...(offset === undefined ? {} : { offset }),
  };
}

/** Gathers problems while the reader goes on. */
export class Problems {
  readonly list: Problem[] = [];

  add<C extends ProblemCode>(code: C, facts: Facts<C>, path: Path = [], offset?: number): void {
    this.list.push(problem(code, facts, path, offset));
  }
}
