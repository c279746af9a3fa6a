import type { SessionOperand } from "../../conditions/expression.js";
import type { Truth } from "../../conditions/truth.js";
import { actionTree } from "../../rules/action-tree.js";
import { isOwn, type Table } from "../../schema/schema.js";
import { conditionOf } from "../../session/conditions.js";
import type { Plan } from "../../session/plan.js";
import { conditionFormula } from "../condition.js";
import { type Formula, formula, isNever, print } from "../formula.js";
import type { Fragment } from "../fragment.js";
import { postgres } from "../postgres.js";
import { type OpenSubject, scopeOf } from "../scope.js";
import { tableName } from "../where.js";
import { qualified, type Schemas, selected, written } from "./ddl.js";
import { plannedRows, plannedTest } from "./overlay.js";
import { selectedOnce } from "./selected-once.js";
import type { SubjectView } from "./subject-view.js";

const quote = postgres.quoteName;

/** The policies of a migration, by name: others may have made policies, too. Short, as the schema's name may be long. */
export function policyNames({ seen }: Schemas): Readonly<Record<"open" | "listed" | "planned", string>> {
  return { open: `${seen} open`, listed: `${seen} list`, planned: `${seen} plan` };
}

/**
 * The current user, for conditions that the reader of records is asked: what they ask about other records they ask of views of all
 * of them, whatever may be listed there.
 */
export class ReadersView implements OpenSubject {
  readonly subject: SubjectView;
  readonly #schemas: Schemas;
  readonly #whole = new Map<string, Table>();

  constructor(subject: SubjectView, schemas: Schemas) {
    this.subject = subject;
    this.#schemas = schemas;
  }

  get meets(): Formula {
    return this.subject.meets;
  }

  value(operand: SessionOperand): Fragment {
    return this.subject.value(operand);
  }

  held(role: string): Fragment {
    return this.subject.held(role);
  }

  membership(name: string, among: readonly Truth[]): Fragment {
    return this.subject.membership(name, among);
  }

  sourceOf(table: Table): string {
    const { inside, names } = this.#schemas;
    const view = qualified(inside, names.of(`${table.name} whole`));
    this.#whole.set(view, table);
    return view;
  }

  /** The views, once all conditions are written. */
  statements(): string[] {
    return [...this.#whole].flatMap(([view, table]) => {
      // What columns the table has besides may come and go.
      const columns = table.fields.filter(isOwn).map((field) => quote(field.column));
      return [
        `create view ${view} as select ${columns.join(", ")} from ${this.subject.sourceOf(table)}`,
        `grant select on ${view} to ${readersOf(this.#schemas)}`,
      ];
    });
  }
}

/**
 * The policies that let the records through that the current user may list. They stand whatever other policies permit. As
 * PostgreSQL knows what a policy is, what could tell of a record is tried on none that is not seen.
 */
export function rowPolicies(
  plan: Plan,
  table: Table,
  source: string,
  readers: ReadersView,
  schemas: Schemas,
): string[] {
  const { inside, reader } = schemas;
  const rows = listedRows(plan, table, readers);
  const test = written(print(selectedOnce(formula("and", [readers.meets, rows]), inside)), selected(inside));
  const { open, listed } = policyNames(schemas);
  return [
    `create policy ${quote(open)} on ${source} for select to ${readersOf(schemas)} using (true)`,
    restrictive(listed, source, reader, isNever(rows) ? "false" : test),
    `grant select on ${source} to ${readersOf(schemas)}`,
  ];
}

/** The same for the reader of the overlay. */
export function plannedPolicy(
  plan: Plan,
  table: Table,
  source: string,
  readers: ReadersView,
  schemas: Schemas,
): string {
  const rows = listedRows(plan, table, readers);
  const test = plannedTest(plannedRows(rows, readers.subject), readers.subject, schemas);
  return restrictive(policyNames(schemas).planned, source, schemas.overlay.reader, isNever(rows) ? "false" : test);
}

function listedRows(plan: Plan, table: Table, readers: ReadersView): Formula {
  const scope = scopeOf(postgres, { plan }, { table, alias: tableName(table.source) }, readers);
  return conditionFormula(conditionOf(plan.of(table.name), actionTree(table, "list", undefined)), scope);
}

function restrictive(name: string, source: string, reader: string, test: string): string {
  return `create policy ${quote(name)} on ${source} as restrictive for select to ${quote(reader)} using (
  ${test}
)`;
}

/** The roles with whose rights the views read, for a `grant`. */
function readersOf({ reader, overlay, hasOverlay }: Schemas): string {
  return [reader, ...(hasOverlay ? [overlay.reader] : [])].map(quote).join(", ");
}
