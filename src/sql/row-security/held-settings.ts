import { and, type Expression, never, type Operand } from "../../conditions/expression.js";
import { False, True } from "../../conditions/truth.js";
import type { Rule } from "../../rules/rule.js";
import type { Ruleset } from "../../rules/ruleset.js";
import { isRunningLink } from "../../rules/stored-members.js";
import { type Field, type SettingSource, settingLevels, singleKey, type Table } from "../../schema/schema.js";
import { list } from "../../schema/types/list.js";
import { scalarTypes } from "../../schema/types/scalars.js";
import { isAmong, rulesOfSetting, type SettingPart, settingPrefix, whoMeets } from "../../session/setting-rules.js";
import type { Subject } from "../../session/subject.js";
import { truthNumber } from "../condition.js";
import { anyOf, type Fragment, join, raw, sql } from "../fragment.js";
import type { Place } from "../place.js";
import { column, type Scope, tableAs } from "../scope.js";
import { literal, written } from "./ddl.js";

/**
 * What is asked of the settings of a field: of a part whether it is set; `counts`, `any`: on which records anything stands in
 * place of what is set on all; `apart`: whether it does on any.
 */
type Sought = SettingPart | "counts" | "any" | "apart";

interface SettingFact {
  readonly sought: Sought;
  readonly table: Table;
  readonly field: Field;
}

/** The name of a fact: whether it is set on the whole table, or the records on which it is set. */
function nameOf({ sought, table, field }: SettingFact): string {
  return `${settingPrefix}${sought} ${elementOf(table, field)}`;
}

/** Between names, which have no control characters. */
const between = "\t";
const then = raw("|| chr(9) ||");

function elementOf(table: Table, field: Field): string {
  return `${table.name}${between}${field.name}`;
}

/** What may be set of anybody on a table, as rules: who and where are left to the statement. */
export function settingsOfAnybody(ruleset: Ruleset, subject: Subject, table: Table): Rule[] {
  const settings = ruleset.schema.people?.settings;
  if (settings === undefined || settings.on.type.choices?.includes(table.name) === false) return [];
  const adds = settings.adds.get(table.name);
  return settable(settings, table).flatMap((field) => {
    const who = (part: SettingPart, apart: Sought): Expression => {
      const isSet = (sought: Sought): Expression => ({ kind: "open", name: nameOf({ sought, table, field }) });
      if (settings.record === undefined || !namesRecords(settings, table)) return isSet(part);
      // Where nothing is set on any record, which the planner sees, no record is asked for it.
      const on = (sought: Sought) => and([isSet("apart"), isAmong(table, held(nameOf({ sought, table, field })))]);
      return whoMeets(isSet(part), on(part), on(apart));
    };
    return rulesOfSetting(ruleset, subject, table, field, {
      none: who("none", "counts"),
      view: who("view", "counts"),
      addsView: adds?.view.has(field) === true ? who("addsView", "any") : never,
      addsEdit: adds?.edit.has(field) === true ? who("addsEdit", "any") : never,
    });
  });
}

function settable({ field: named }: SettingSource, table: Table): Field[] {
  const { choices } = named.type;
  return table.fields.filter((field) => !table.key.includes(field) && choices?.includes(field.name) !== false);
}

function held(role: string): Operand {
  return { kind: "held", type: list(scalarTypes.text), role };
}

/** Whether a text names a record here; else what is set on one record counts for all where it takes away, and gives nothing. */
export function namesRecords({ record }: SettingSource, table: Table): boolean {
  const key = singleKey(table);
  const isReadable = key !== undefined && ["text", "choice", "integer"].includes(key.type.base);
  return isReadable && (record?.type.target === undefined || record.type.target === table.name);
}

/** What is set of the current user, as parts of the view of them. */
export class HeldSettings {
  readonly #ruleset: Ruleset;
  readonly #settings: SettingSource;
  readonly #within: (place: Place) => Scope;
  readonly #facts: ReadonlyMap<string, SettingFact>;

  /** Undefined for a document without settings. */
  static of(ruleset: Ruleset, within: (place: Place) => Scope): HeldSettings | undefined {
    const settings = ruleset.schema.people?.settings;
    return settings && new HeldSettings(ruleset, settings, within);
  }

  private constructor(ruleset: Ruleset, settings: SettingSource, within: (place: Place) => Scope) {
    this.#ruleset = ruleset;
    this.#settings = settings;
    this.#within = within;
    const facts = [...ruleset.schema.tables.values()].flatMap((table) =>
      table.fields.flatMap((field) =>
        (["none", "view", "addsView", "addsEdit", "counts", "any", "apart"] as const).map((sought) => ({
          sought,
          table,
          field,
        })),
      ),
    );
    this.#facts = new Map(facts.map((fact) => [nameOf(fact), fact]));
  }

  /** The settings of a person, whose key the statement `own` gives, that are not over; `n` is whether they count. */
  table(own: string): string {
    const { table, person, on, field, level, record, from, until } = this.#settings;
    const place: Place = { table, alias: "l" };
    const scope = this.#within(place);
    const isEnding = from !== undefined || until !== undefined;
    const number = isEnding ? truthNumber(isRunningLink({ from, until }), scope) : raw(String(True));
    const text = (one: Field) => sql`cast(${column(scope, place, one)} as text)`;
    const columns = [
      sql`${text(on)} as t`,
      sql`${text(field)} as f`,
      sql`${text(level)} as v`,
      sql`${record === undefined ? raw("cast(null as text)") : text(record)} as r`,
      sql`${number} as n`,
    ];
    const rows = sql`select ${join(columns, ", ")} from a, ${tableAs(scope, place)} where ${column(scope, place, person)} = ${raw(own)}`;
    const isSet = raw("t is not null and f is not null and v is not null");
    return written(
      sql`settings as materialized (select * from (${rows}) l where ${isSet} and n <> ${raw(String(False))})`,
    );
  }

  /** Where it is found whether something is set on a whole table; undefined for another name. */
  ofTable(name: string): { readonly fact: string; readonly list: Fragment; readonly element: string } | undefined {
    const fact = this.#facts.get(name);
    if (fact === undefined) return undefined;
    const { sought, table, field } = fact;
    return { fact: `set ${sought}`, list: this.#wholes(sought), element: elementOf(table, field) };
  }

  /** Where the keys are found of the records on which something is set; undefined for another name. */
  ofRecords(name: string) {
    const fact = this.#facts.get(name);
    if (fact === undefined) return undefined;
    const { sought, table, field } = fact;
    const start = `${elementOf(table, field)}${between}`;
    const key = singleKey(table) as Field;
    const record = raw(`substr(one, ${[...start].length + 1})`);
    const value = key.type.base === "integer" ? sql`cast(${record} as bigint)` : record;
    return {
      fact: `set ${sought} on`,
      list: sql`array(select t ${then} f ${then} r from settings where r is not null and ${isSought(sought)})`,
      keys: (all: Fragment): Fragment =>
        sql`array(select ${value} from unnest(${all}) one where starts_with(one, ${raw(literal(start))}))`,
    };
  }

  /** The fields on which something is set for whole tables, as texts. */
  #wholes(sought: Sought): Fragment {
    const takes = sought === "none" || sought === "view";
    // Where no record can be named, what is set on one counts for all where it takes away, and keeps what gives from counting.
    const blind = [...this.#ruleset.schema.tables.values()].filter((table) => !namesRecords(this.#settings, table));
    const isBlind =
      blind.length === 0 ? raw("false") : sql`t in (${raw(blind.map(({ name }) => literal(name)).join(", "))})`;
    const isOther = sql`exists (select 1 from settings o where o.t = s.t and o.f = s.f and o.r is not null)`;
    const counts =
      sought === "apart"
        ? raw("r is not null")
        : takes
          ? sql`(r is null or ${isBlind})`
          : sql`r is null and not (${isBlind} and ${isOther})`;
    return sql`array(select t ${then} f from settings s where ${counts} and ${isSought(sought)})`;
  }

  /** Whether something that is set names no field, no level or no record: that is a fault, and never silently nothing. */
  isWrong(): Fragment {
    const tables = [...this.#ruleset.schema.tables.values()];
    const known = tables.map((table) => {
      const names = table.fields.filter((field) => !table.key.includes(field)).map(({ name }) => literal(name));
      const isOfTable = sql`t = ${raw(literal(table.name))} and f = any (array[${raw(names.join(", "))}]::text[])`;
      return sql`(${isOfTable} and ${this.#namesRecord(table)})`;
    });
    const levels = raw(settingLevels.map(literal).join(", "));
    return sql`exists (select 1 from settings where not (v in (${levels}) and ${anyOf(known)}))`;
  }

  #namesRecord(table: Table): Fragment {
    const { record } = this.#settings;
    const target = record?.type.target;
    const key = singleKey(table);
    if (record === undefined) return raw("true");
    if (target !== undefined && target !== table.name) return raw("r is null");
    if (key?.type.base === "integer") return sql`(r is null or r ~ ${raw(literal(integerKey))})`;
    const { choices } = key?.type ?? {};
    return choices === undefined ? raw("true") : sql`(r is null or r in (${raw(choices.map(literal).join(", "))}))`;
  }
}

function isSought(sought: Sought): Fragment {
  const counts = sql`n = ${raw(String(True))}`;
  switch (sought) {
    case "none":
    case "view":
      return sql`v = ${raw(literal(sought))}`;
    case "addsView":
      return sql`${counts} and v in ('view', 'edit')`;
    case "addsEdit":
      return sql`${counts} and v = 'edit'`;
    case "counts":
      return counts;
    case "any":
    case "apart":
      return raw("true");
    default:
      return sought satisfies never;
  }
}

const integerKey = "^(0|-?[1-9][0-9]{0,15})$";
