import type { Said } from "../schema/call-messages.js";
import { givingMessages } from "../schema/giving-messages.js";
import { messages } from "../schema/messages.js";
import type { Facts, MistakeCode, Problem } from "../schema/problems.js";
import { problemSaying } from "../schema/report.js";

const all = { ...messages, ...givingMessages };

/** A problem of a change of who holds what, from its code and facts. */
export function givingProblem<C extends MistakeCode>(code: C, facts: Facts<C>): Problem {
  const say = all[code] as unknown as (facts: Facts<C>) => Said;
  return problemSaying(code, say(facts));
}
