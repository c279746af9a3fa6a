import type { Row, Source } from "../../conditions/source.js";
import type { Rule } from "../../rules/rule.js";
import type { Ruleset } from "../../rules/ruleset.js";
import type { Said } from "../../schema/call-messages.js";
import type { Path, Problem } from "../../schema/problems.js";
import { problemSaying } from "../../schema/report.js";
import { type WarningCode, warningMessages } from "../../schema/warning-messages.js";
import type { Portier } from "../../session/portier.js";

/** Records with which more warnings can be found: by table, and where sessions read them. */
export interface LintData {
  readonly tables: ReadonlyMap<string, readonly Row[]>;
  readonly source: Source;
}

/** What a check looks at. */
export interface LintInput {
  readonly portier: Portier;
  readonly ruleset: Ruleset;
  readonly data: LintData | undefined;
  readonly warnings: WarningList;
  /** What sessions are opened with. */
  readonly request: { readonly now?: string };
}

type WarningFacts<C extends WarningCode> = Parameters<(typeof warningMessages)[C]>[0];

/** Gathers warnings. */
export class WarningList {
  readonly list: Problem[] = [];

  add<C extends WarningCode>(code: C, facts: WarningFacts<C>, path: Path): void {
    const say = warningMessages[code] as unknown as (facts: WarningFacts<C>) => Said;
    this.list.push(problemSaying(code, say(facts), path));
  }
}

export const nameOf = (rule: Rule): string => rule.address.slice(rule.address.indexOf("/") + 1);
