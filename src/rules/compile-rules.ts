import { type Operand, type SessionOperand, visitOperands } from "../conditions/expression.js";
import { declare } from "../schema/declare.js";
import { limits } from "../schema/limits.js";
import { type Locate, PortierError, type Problem, Problems, problem } from "../schema/problems.js";
import type { Part } from "../schema/reader.js";
import { printFieldPath, type Schema } from "../schema/schema.js";
import type { ActionName } from "./actions.js";
import { readRules } from "./read-rules.js";
import type { Rule } from "./rule.js";

/** A document that has been checked as a whole: its schema, and its rules by table and action. Immutable. */
export interface Ruleset {
  readonly schema: Schema;
  readonly rules: readonly Rule[];
  /** The rules of a table that speak of an action, in the order of their addresses. */
  of(table: string, action: ActionName): readonly Rule[];
  /** What the rules ask of a session, each once: the parts of a person or request that decisions depend on. */
  readonly sessionOperands: ReadonlyMap<string, SessionOperand>;
}

/**
 * Checks a document and resolves all its names.
 *
 * @throws PortierError with every problem of the document; nothing is half-loaded.
 */
export function compileRules(document: unknown, locate?: Locate): Ruleset {
  const problems = new Problems();
  const root: Part = { value: document, path: [], problems };
  const { schema, rules: parts, broken } = declare(root);
  const rules: Rule[] = [];
  for (const [name, part] of parts) {
    const table = schema.tables.get(name);
    if (table !== undefined) rules.push(...readRules(part, schema, table));
  }
  if (rules.length > limits.rules) problems.add("too-large", { what: "rules", limit: limits.rules });
  const found = withoutEchoes(problems.list, broken);
  if (found.length > 0) throw new PortierError(sortByPlace(found, locate));

  // In the order of their addresses, so that no answer can depend on the order in which rules were written.
  rules.sort((a, b) => (a.address < b.address ? -1 : 1));
  const index = new Map<string, Map<ActionName, Rule[]>>();
  for (const rule of rules) {
    const byAction = index.get(rule.table.name) ?? new Map<ActionName, Rule[]>();
    index.set(rule.table.name, byAction);
    for (const action of rule.extents.keys()) {
      const list = byAction.get(action);
      if (list === undefined) byAction.set(action, [rule]);
      else list.push(rule);
    }
  }
  const none: readonly Rule[] = [];
  return {
    schema,
    rules,
    of: (table, action) => index.get(table)?.get(action) ?? none,
    sessionOperands: collectSessionOperands(rules),
  };
}

/** A field that could not be read has its own problem; that rules then do not find it is the same problem again. */
function withoutEchoes(list: readonly Problem[], broken: ReadonlyMap<string, ReadonlySet<string>>): readonly Problem[] {
  const echoes = new Set<string>();
  for (const [table, names] of broken) {
    for (const name of names) echoes.add(problem("unknown-field", { table, name, candidates: [] }).message);
  }
  return echoes.size === 0 ? list : list.filter((one) => one.code !== "unknown-field" || !echoes.has(one.message));
}

/** In the order of the file, where there is one. */
function sortByPlace(problems: readonly Problem[], locate: Locate | undefined): Problem[] {
  const listed = problems.slice(0, limits.problems).map((one) => ({ ...one, ...locate?.(one.path, one.offset) }));
  return listed.sort((a, b) => (a.line ?? 0) - (b.line ?? 0) || (a.column ?? 0) - (b.column ?? 0));
}

function collectSessionOperands(rules: readonly Rule[]): Map<string, SessionOperand> {
  const operands = new Map<string, SessionOperand>();
  const visit = (operand: Operand) => {
    if (operand.kind === "me" || operand.kind === "request" || operand.kind === "today") {
      operands.set(sessionOperandName(operand), operand);
    }
  };
  for (const rule of rules) {
    visitOperands(rule.where, visit);
    if (rule.becomes !== undefined) visitOperands(rule.becomes, visit);
    for (const who of [...rule.to, ...rule.except]) {
      if (who.kind === "related") visitOperands(who.met, visit);
    }
  }
  return operands;
}

/** `me.department`, `request.site`, `today`: one name for each thing that a session knows. */
export function sessionOperandName(operand: SessionOperand): string {
  switch (operand.kind) {
    case "me":
      return `me.${printFieldPath(operand.path)}`;
    case "request":
      return `request.${operand.name}`;
    case "today":
      return "today";
    default:
      return operand satisfies never;
  }
}
