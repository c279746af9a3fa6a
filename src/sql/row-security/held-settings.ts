import { type Expression, never, type Operand } from "../../conditions/expression.js";
import { False, True } from "../../conditions/truth.js";
import type { Rule } from "../../rules/rule.js";
import type { Ruleset } from "../../rules/ruleset.js";
import { isRunningLink } from "../../rules/stored-members.js";
import { type Field, type SettingSource, settingLevels, singleKey, type Table } from "../../schema/schema.js";
import { list } from "../../schema/types/list.js";
import { scalarTypes } from "../../schema/types/scalars.js";
import { isAmong, rulesOfSetting, type SettingPart, whoMeets } from "../../session/setting-rules.js";
import type { Asker } from "../../session/subject.js";
import { truthNumber } from "../condition.js";
import { anyOf, type Fragment, join, raw, sql } from "../fragment.js";
import { column, type Place, type Scope, tableAs } from "../scope.js";
import { literal, written } from "./ddl.js";

/** Which settings of a field a fact of the current user is about: of a part, or all that stand in place of the table's own. */
type Sought = SettingPart | "counts" | "any";

interface SettingFact {
  readonly sought: Sought;
  readonly table: Table;
  readonly field: Field;
}

/** The name of a fact: whether it is set on the whole table, or the records on which it is set. */
function nameOf({ sought, table, field }: SettingFact): string {
  return `setting ${sought} ${table.name}.${field.name}`;
}

/** What may be set of anybody on a table, as rules: who and where are left to the statement. */
export function settingsOfAnybody(ruleset: Ruleset, asker: Asker, table: Table): Rule[] {
  const settings = ruleset.schema.people?.settings;
  if (settings === undefined) return [];
  const adds = settings.adds.get(table.name);
  return table.fields
    .filter((field) => !table.key.includes(field))
    .flatMap((field) => {
      const who = (part: SettingPart, apart: Sought): Expression => {
        const whole: Expression = { kind: "open", name: nameOf({ sought: part, table, field }) };
        if (settings.record === undefined || !namesRecords(settings, table)) return whole;
        const on = (sought: Sought) => isAmong(table, held(nameOf({ sought, table, field })));
        return whoMeets(whole, on(part), on(apart));
      };
      return rulesOfSetting(ruleset, asker, table, field, {
        none: who("none", "counts"),
        view: who("view", "counts"),
        addsView: adds?.view.has(field) === true ? who("addsView", "any") : never,
        addsEdit: adds?.edit.has(field) === true ? who("addsEdit", "any") : never,
      });
    });
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

  /** `own`: the key of the current user, as a statement. Undefined for a document without settings. */
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
        (["none", "view", "addsView", "addsEdit", "counts", "any"] as const).map((sought) => ({
          sought,
          table,
          field,
        })),
      ),
    );
    this.#facts = new Map(facts.map((fact) => [nameOf(fact), fact]));
  }

  has(name: string): boolean {
    return this.#facts.has(name);
  }

  /** The settings of this person that are not over, read once; `n` is whether they count. */
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

  /** Whether something is set on a whole table, as a number of truth values. */
  numberOf(name: string): Fragment {
    const fact = this.#fact(name);
    const { sought, table } = fact;
    const takes = sought === "none" || sought === "view";
    const isOfAll = namesRecords(this.#settings, table) || !takes ? sql` and r is null` : sql``;
    const nothingElse =
      namesRecords(this.#settings, table) || takes
        ? sql``
        : sql` and not exists (select 1 from settings where ${this.#about(fact, "any")} and r is not null)`;
    const isSet = sql`exists (select 1 from settings where ${this.#about(fact, sought)}${isOfAll})${nothingElse}`;
    return sql`case when ${isSet} then ${raw(String(True))} else ${raw(String(False))} end`;
  }

  /** The keys of the records on which something is set. */
  keysOf(name: string): Fragment {
    const fact = this.#fact(name);
    const key = singleKey(fact.table) as Field;
    const value = key.type.base === "integer" ? sql`cast(r as bigint)` : sql`r`;
    const isKey = key.type.base === "integer" ? sql` and r ~ ${raw(literal(integerKey))}` : sql``;
    return sql`array(select ${value} from settings where ${this.#about(fact, fact.sought)} and r is not null${isKey})`;
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

  #fact(name: string): SettingFact {
    return this.#facts.get(name) as SettingFact;
  }

  #about({ table, field }: SettingFact, sought: Sought): Fragment {
    const isOf = sql`t = ${raw(literal(table.name))} and f = ${raw(literal(field.name))}`;
    const counts = sql`n = ${raw(String(True))}`;
    switch (sought) {
      case "none":
      case "view":
        return sql`${isOf} and v = ${raw(literal(sought))}`;
      case "addsView":
        return sql`${isOf} and ${counts} and v in ('view', 'edit')`;
      case "addsEdit":
        return sql`${isOf} and ${counts} and v = 'edit'`;
      case "counts":
        return sql`${isOf} and ${counts}`;
      case "any":
        return isOf;
      default:
        return sought satisfies never;
    }
  }
}

const integerKey = "^(0|-?[1-9][0-9]{0,15})$";
