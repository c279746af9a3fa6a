import { type Formula, formula, print } from "../formula.js";
import type { Fact, Fragment } from "../fragment.js";
import {
  dollars,
  type FactWriter,
  hasText,
  literal,
  ofColumn,
  qualified,
  type Schemas,
  typeOf,
  written,
} from "./ddl.js";
import { plannedOnce } from "./selected-once.js";
import type { SubjectView } from "./subject-view.js";
import { setPersonOf, stampOfNow } from "./trust.js";

/**
 * The overlay: views for applications whose statements are planned for the current user.
 *
 * While PostgreSQL plans a statement it works out functions that it is told are immutable; the ones below are not, as they
 * depend on the current user. So what the rules ask of the current user is constant in the plan: conditions for others fall
 * away, and what is left is planned like a condition written by hand.
 *
 * Why that is safe: each view asks `planned` once while a statement on it is planned, which refuses whoever may not set the
 * current user anyway, and a current user that was not set in this transaction. And it asks `plan_is_current` once whenever
 * the statement is run, before a row is read: a plan that was kept serves nobody else, and no later transaction.
 */
export function overlayFunctions(schemas: Schemas, subject: SubjectView): string[] {
  const { inside, seen } = schemas;
  const at = (name: string) => qualified(inside, name);
  const refused = (message: string, hint: string, code = "insufficient_privilege") =>
    `raise exception using errcode = ${literal(code)}, message = ${message}, hint = ${literal(hint)};`;
  return [
    // It belongs to the reader: what is active for that one is asked here.
    planning(
      `${at("planned")}(what regclass) returns text`,
      "immutable security definer",
      `declare
  told pg_catalog.text := pg_catalog.current_setting('portier.planned', true);
begin
  if not pg_catalog.has_function_privilege(session_user, ${setPersonOf(schemas)}, 'execute') then
    ${refused("'these views are for who may set the current user'", `use the views of the schema ${seen}`)}
  end if;
  if pg_catalog.starts_with(told, ${stampOfNow}) is not true then
    ${refused("'no current user was set in this transaction'", `select ${seen}.set_person('KEY')`)}
  end if;
  if not pg_catalog.row_security_active(what) then
    ${refused("pg_catalog.format('row security is not active on %s', what)", "run the migration again, as the owner of the tables")}
  end if;
  return told;
end`,
    ),
    planning(
      `${at("plan_is_current")}(planned text) returns boolean`,
      "stable",
      `begin
  if pg_catalog.current_setting('portier.planned', true) operator(pg_catalog.=) planned then return true; end if;
  ${refused("'this statement was planned for another user, or in another transaction'", `what is prepared by a name or stands in a function uses the views of the schema ${seen}`, "object_not_in_prerequisite_state")}
end`,
    ),
    planning(
      `${at("planned_is")}(what text) returns boolean`,
      "immutable",
      `begin
  return pg_catalog.strpos(pg_catalog.current_setting('portier.truths', true), what) operator(pg_catalog.>) 0;
end`,
    ),
    ...valuesOf(subject).map((one, index) =>
      planning(
        `${valueFunction(schemas, one)}() returns ${typeOf(at("subject"), one.fact)}`,
        "immutable",
        `declare
  told pg_catalog.text := pg_catalog.current_setting('${settingOf(index)}', true);
begin
  if pg_catalog.length(told) operator(pg_catalog.>) 0 then return pg_catalog.substr(told, 2); end if;
  return null;
end`,
      ),
    ),
  ];
}

/** What `set_person` sets for the overlay, from the row `asked` of the current user. */
export function plannedSettings(subject: SubjectView): string[] {
  const asked: FactWriter = (one) => ofColumn("(asked)", one);
  const each = subject.truths(asked).map(([name, test]) => `case when ${test} then ${literal(lineOf(name))} end`);
  return [
    // The UUID tells apart whom the current user was set to in one transaction.
    `set_config('portier.planned', concat(${stampOfNow}, gen_random_uuid()), true)`,
    `set_config('portier.truths', case when (asked).meets then concat(${each.join(", ")}) else '' end, true)`,
    ...valuesOf(subject).map(
      (one, index) => `set_config('${settingOf(index)}', coalesce('=' || ${asked(one)}::text, ''), true)`,
    ),
  ];
}

function lineOf(name: string): string {
  return `[${name}]`;
}

function valuesOf(subject: SubjectView): readonly Fact[] {
  return subject.facts.filter(({ kind }) => kind !== "truth");
}

/** The setting that holds a value: behind "=", or nothing for null. */
function settingOf(index: number): string {
  return `portier.value_${index + 1}`;
}

function valueFunction({ inside, names }: Schemas, { fact }: Fact): string {
  return qualified(inside, names.of(`planned_${fact.replace(/\W+/g, "_").toLowerCase()}`, `planned ${fact}`));
}

/**
 * A function that is worked out while statements are planned. To set a search path for it would take longer than all the
 * rest, and the caller's is not to be trusted: so every name and operator in it says its schema (`nullif` has an operator
 * that cannot).
 */
function planning(head: string, marks: string, body: string): string {
  return `create function ${head}\n  language plpgsql ${marks} parallel safe\nas ${dollars(body)}`;
}

/** That the records of a table are shown to who may see the overlay, and by a plan that is theirs. */
export function planIsCurrent({ inside }: Schemas, source: string): string {
  return `${qualified(inside, "plan_is_current")}(${qualified(inside, "planned")}(${literal(source)}))`;
}

/** A condition of the overlay. */
export function plannedTest(one: Formula, subject: SubjectView, schemas: Schemas): string {
  return written(print(plannedOnce(one, subject)), constant(schemas));
}

/** That a rule is met at all. What is true is set of those alone who may meet one: where it is asked, nothing else is. */
export function plannedRows(rows: Formula, subject: SubjectView): Formula {
  return needsTruth(rows) ? rows : formula("and", [subject.meets, rows]);
}

/** Whether something must be true of the current user wherever this is. */
function needsTruth(one: Formula): boolean {
  if (one.kind === "test") return isTruth(one.fragment);
  return one.kind === "and" ? one.terms.some(needsTruth) : one.terms.every(needsTruth);
}

function isTruth(fragment: Fragment): boolean {
  const [piece] = fragment;
  return fragment.length === 1 && typeof piece === "object" && "fact" in piece && piece.kind === "truth";
}

/** Facts as constants of a plan. */
function constant(schemas: Schemas): FactWriter {
  return (one) => {
    if (one.kind === "truth") return `${qualified(schemas.inside, "planned_is")}(${literal(lineOf(one.fact))})`;
    const value = `${valueFunction(schemas, one)}()`;
    return one.has === undefined ? value : hasText(value, one.has);
  };
}
