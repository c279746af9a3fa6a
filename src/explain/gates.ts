import { type ActionName, actionOf } from "../rules/actions.js";
import { type Field, isOwn } from "../schema/schema.js";
import type { Gates, Opening } from "./missing.js";
import type { TracedRule, TracedRules } from "./traced-rules.js";

/**
 * The ways to a yes, each as the gates that must all open: seeing a field, knowing of the record, editing before a bulk change,
 * making the record before a field of it is given. Asked without a field, any field will do.
 */
export function waysTo(rules: TracedRules, action: ActionName, field: Field | undefined): Gates[] {
  const { table } = rules;
  const making = (["create", "import"] as const).find((one) => one === action);
  if (making !== undefined) return [newGates(rules, making, field)];
  if (actionOf(table, action)?.speaksOf === "record") return [[knownGate(rules), gate(rules, action, "act")]];
  const seeing = (["list", "view", "export"] as const).find((one) => one === action);
  // The key is seen with any field.
  const any = field === undefined || (seeing !== undefined && table.key.includes(field));
  const fields = any ? table.fields.filter(isOwn) : [field];
  const own = fields.map((one) =>
    seeing === undefined ? changeGates(rules, action, one) : seenGates(rules, seeing, one),
  );
  return distinct(own.filter((gates) => gates.every((openings) => openings.length > 0)));
}

/** Whether a record is known at all: any field of it, lookups aside, is listed or viewed. */
export function knownGate(rules: TracedRules): readonly Opening[] {
  const openings = rules.table.fields
    .filter(isOwn)
    .flatMap((field) => (["list", "view"] as const).flatMap((action) => seenGate(rules, action, field)));
  return distinct(openings.map((one) => [[one]])).flatMap((gates) => gates[0] ?? []);
}

function seenGates(rules: TracedRules, action: "list" | "view" | "export", field: Field): Gates {
  const parts = [field, ...(field.by ?? [])];
  const view = parts.map((part) => seenGate(rules, action === "list" ? "list" : "view", part));
  return action === "export" ? [...view, ...parts.map((part) => gate(rules, action, part))] : view;
}

function changeGates(rules: TracedRules, action: ActionName, field: Field): Gates {
  const edits = action === "bulk" ? (["edit", "bulk"] as const) : [action];
  return [knownGate(rules), ...edits.map((one) => gate(rules, one, field))];
}

function newGates(rules: TracedRules, action: "create" | "import", field: Field | undefined): Gates {
  const acts = action === "import" ? (["create", "import"] as const) : (["create"] as const);
  return acts.flatMap((one) => [gate(rules, one, "act"), ...(field === undefined ? [] : [gate(rules, one, field)])]);
}

/** A permitted view also permits list, and what is denied for either is not listed. */
function seenGate(rules: TracedRules, action: "list" | "view", field: Field): readonly Opening[] {
  const view = rules.deciding("view", field);
  return openings(rules, action === "view" ? view : [...rules.deciding("list", field), ...view]);
}

function gate(rules: TracedRules, action: ActionName, field: Field | "act"): readonly Opening[] {
  return openings(rules, rules.deciding(action, field));
}

/** A block that only the new values can meet does not stop a change from being tried. */
function openings(rules: TracedRules, deciding: readonly TracedRule[]): readonly Opening[] {
  const decides = ({ counting: { rule, options } }: TracedRule) =>
    options.judges !== "change" || (rule.becomes === undefined && options.isCrossing !== true);
  const traced = (phase: "block" | "permit") =>
    deciding.filter((one) => one.counting.rule.effect.phase === phase && (phase === "permit" || decides(one)));
  const blocks = traced("block").map((one) => rules.trace(one, undefined));
  return traced("permit").map((one) => ({ permit: rules.trace(one, undefined), blocks }));
}

/** Fields under the same rules are one way. */
function distinct(ways: readonly Gates[]): Gates[] {
  const seen = new Set<string>();
  return ways.filter((gates) => {
    const id = JSON.stringify(
      gates.map((all) => all.map(({ permit, blocks }) => [permit.rule, permit.action, blocks.map((one) => one.rule)])),
    );
    return !seen.has(id) && seen.add(id);
  });
}
