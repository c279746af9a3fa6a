import type { Said } from "./call-messages.js";
import { messages } from "./messages.js";
import { type Facts, type Path, type Problem, type ProblemCode, sentence } from "./problems.js";

/** A code of documents, data and calls. */
type OwnCode = keyof typeof messages;

/** Makes one problem from its code and facts. */
export function problem<C extends OwnCode>(code: C, facts: Facts<C>, path: Path = [], offset?: number): Problem {
  const say = messages[code] as (facts: Facts<C>) => Said;
  return problemSaying(code, say(facts), path, offset);
}

/** The only place where a message meets a code. */
export function problemSaying(code: ProblemCode, [message, hint]: Said, path: Path = [], offset?: number): Problem {
  return {
    code,
    message: sentence(message),
    ...(hint === undefined ? {} : { hint: sentence(hint) }),
    path,
    ...(offset === undefined ? {} : { offset }),
  };
}

/** Gathers problems while the reader goes on. */
export class Problems {
  readonly list: Problem[] = [];

  add<C extends OwnCode>(code: C, facts: Facts<C>, path: Path = [], offset?: number): void {
    this.list.push(problem(code, facts, path, offset));
  }
}
