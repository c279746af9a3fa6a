import { assignmentMessages } from "../schema/assignment-messages.js";
import type { Said } from "../schema/call-messages.js";
import { messages } from "../schema/messages.js";
import type { ErrorCode, Facts, Problem } from "../schema/problems.js";
import { problemSaying } from "../schema/report.js";

const all = { ...messages, ...assignmentMessages };

/** A problem of a change of who holds what, from its code and facts. */
export function assignmentProblem<C extends ErrorCode>(code: C, facts: Facts<C>): Problem {
  const say = all[code] as unknown as (facts: Facts<C>) => Said;
  return problemSaying(code, say(facts));
}
