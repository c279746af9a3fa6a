import type { Ruleset } from "../../rules/ruleset.js";
import type { Path, Problem } from "../../schema/problems.js";
import type { IgnoredWarnings } from "../../schema/schema.js";
import { warningMessages } from "../../schema/warning-messages.js";
import { internals } from "../../session/internals.js";
import type { Portier } from "../../session/portier.js";
import { breadthChecks } from "./breadth.js";
import { serversRules } from "./browser.js";
import { dataChecks } from "./data.js";
import { effectChecks } from "./effects.js";
import { keyChecks } from "./keys.js";
import { nameChecks } from "./names.js";
import { unusedPermits } from "./screens.js";
import { type LintData, type LintInput, nameOf, WarningList } from "./warnings.js";

const checks: readonly ((input: LintInput) => void)[] = [
  ...nameChecks,
  ...breadthChecks,
  ...keyChecks,
  ...effectChecks,
  dataChecks,
];

/** The codes of all warnings, in the order of the documentation. */
export const warningCodes: readonly string[] = Object.keys(warningMessages);

/** Which warnings are looked for. */
export interface LintOptions {
  /** Records, for warnings that only they can tell, such as a role value that no record has. Default: none. */
  readonly data?: LintData;
  /** When, as an instant. Default: now. */
  readonly now?: string;
  /** The addresses of rules on which no expectation bears, as {@link coverageOf} finds them. */
  readonly untested?: readonly string[];
  /** Also warns about rules that a browser cannot answer from a snapshot. */
  readonly browser?: boolean;
  /** Also warns of permits that no screen uses. */
  readonly screens?: boolean;
  /** Told of each check that is done. */
  readonly onCheck?: (done: number, all: number) => void;
}

/**
 * Warnings about a valid document: what has no effect, or is probably wider than intended. Each has the path of its place in
 * the document. Those that the document lists under `ignore`, with a reason, are left out.
 */
export function lint(
  portier: Portier,
  { data, now, untested = [], browser = false, screens = false, onCheck }: LintOptions = {},
): Problem[] {
  const warnings = new WarningList();
  const ruleset = internals(portier).ruleset;
  const request = now === undefined ? {} : { now };
  const input = { portier, ruleset, data, warnings, request };
  for (const [index, check] of checks.entries()) {
    onCheck?.(index, checks.length);
    check(input);
  }
  if (browser) serversRules(input);
  if (screens) unusedPermits(input);
  for (const rule of ruleset.rules) {
    if (untested.includes(rule.address)) warnings.add("untested-rule", { rule: nameOf(rule) }, rule.path);
  }
  const isLookedFor = (code: string) => {
    if (code === "untested-rule") return untested.length > 0;
    if (code === "permit-without-screen") return screens;
    return code === "needs-server" ? browser : data !== undefined || !needsData.has(code);
  };
  return withoutIgnored(warnings, ruleset, isLookedFor);
}

/** What needs records, or expectations, to be seen: without them, silence about it is not without use. */
const needsData: ReadonlySet<string> = new Set([
  "unknown-role-value",
  "role-not-held",
  "too-few-holders",
  "mostly-null-field",
  "matches-no-record",
  "wide-contains",
]);

/** Takes out what is meant, and adds what silences nothing. A rule of every table is one place. */
function withoutIgnored(found: WarningList, ruleset: Ruleset, isLookedFor: (code: string) => boolean): Problem[] {
  const places = new Map<string, readonly [path: Path, ignore: IgnoredWarnings]>();
  for (const [path, ignore] of ignoresIn(ruleset))
    if (ignore.size > 0) places.set(JSON.stringify(path), [path, ignore]);
  const used = new Set<string>();
  const left = new WarningList();
  const said = new Set<string>();
  for (const one of found.list) {
    const silent = [...places].filter(
      ([, [path, ignore]]) => ignore.has(one.code) && path.every((step, index) => one.path[index] === step),
    );
    for (const [place] of silent) used.add(`${place} ${one.code}`);
    const line = JSON.stringify([one.code, one.message, one.path]);
    if (silent.length === 0 && !said.has(line)) left.list.push(one);
    said.add(line);
  }
  for (const [place, [path, ignore]] of places) {
    for (const code of ignore.keys()) {
      const at = [...path, "ignore", code];
      if (!warningCodes.includes(code)) left.add("unknown-warning", { name: code, candidates: warningCodes }, at);
      else if (!used.has(`${place} ${code}`) && isLookedFor(code)) left.add("unused-ignore", { code }, at);
    }
  }
  return left.list;
}

/** Everything that can say what is meant, with its place. */
function* ignoresIn({
  schema,
  groups,
  rules,
  screens,
}: Ruleset): Iterable<readonly [path: Path, ignore: IgnoredWarnings]> {
  if (schema.people !== undefined) yield [["people"], schema.people.ignore];
  for (const { name, ignore } of schema.roles.values()) yield [["roles", name], ignore];
  for (const { name, ignore } of groups.values()) yield [["groups", name], ignore];
  for (const { name, ignore } of screens.values()) yield [["screens", name], ignore];
  for (const { name, ignore } of schema.tables.values()) yield [["tables", name], ignore];
  for (const { path, ignore } of rules) yield [path, ignore];
}
