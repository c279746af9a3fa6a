import { always, and, type Expression, never, not, type Operand, or } from "../conditions/expression.js";
import { False } from "../conditions/truth.js";
import { type ActionName, knownBy } from "../rules/actions.js";
import { type EffectName, effects } from "../rules/effects.js";
import type { Extent, Rule } from "../rules/rule.js";
import type { Ruleset } from "../rules/ruleset.js";
import type { Scalar } from "../schema/scalar.js";
import { type Field, isOwn, meansNothing, type Table } from "../schema/schema.js";
import { list } from "../schema/types/list.js";
import { scalarTypes } from "../schema/types/scalars.js";
import {
  addressesOf,
  type FieldSettings,
  type PersonSettings,
  type RecordPart,
  recordParts,
} from "./person-settings.js";
import { entryApplies } from "./step.js";
import type { Subject } from "./subject.js";

/** What a setting does; each is a rule of its own. */
export const settingParts = ["none", "view", "addsView", "addsEdit"] as const;

export type SettingPart = (typeof settingParts)[number];

/** What an entry begins with that stands for a setting: no name of a role or group has a space. */
export const settingPrefix = "setting ";

/** On which records each part counts. */
export type SettingWho = Readonly<Record<SettingPart, Expression>>;

const changing = ["create", "edit", "import", "bulk"] as const;

interface SettingMeaning {
  /** The last part of the address. */
  readonly name: string;
  readonly effect: EffectName;
  readonly actions: readonly ActionName[];
}

const meanings: Readonly<Record<SettingPart, SettingMeaning>> = {
  none: { name: "none", effect: "deny", actions: [...knownBy, "export", ...changing] },
  view: { name: "view", effect: "deny", actions: changing },
  addsView: { name: "opens-view", effect: "permit", actions: knownBy },
  addsEdit: { name: "opens-edit", effect: "permit", actions: [...knownBy, "edit"] },
};

/** `none of label`, `that opens label to edit`. */
function said(part: SettingPart, field: string): string {
  if (part === "none" || part === "view") return `${part} of ${field}`;
  return `that opens ${field} to ${part === "addsEdit" ? "edit" : "view"}`;
}

/**
 * The settings of a person on one table, as rules for them alone. What they open they open on records that some rule lets
 * the person list or view: a setting is about a field, and makes no record known.
 */
export function settingRules(ruleset: Ruleset, subject: Subject, table: Table, settings: PersonSettings): Rule[] {
  const own = settings.of.get(table.name) ?? [];
  return own.flatMap((one) => rulesOfSetting(ruleset, subject, table, one.field, whoOf(ruleset, table, one)));
}

/** The rules of one field; `who` says on which records each counts. */
export function rulesOfSetting(
  ruleset: Ruleset,
  subject: Subject,
  table: Table,
  field: Field,
  who: SettingWho,
): Rule[] {
  return settingParts.flatMap((part): Rule[] => {
    const met = who[part];
    if (met.kind === "truth" && met.value === False) return [];
    const { effect, actions } = meanings[part];
    const isPermit = effect === "permit";
    const extent: Extent = { fields: new Set([field]), act: false, cells: undefined };
    return [
      {
        address: `${table.name}/setting.${field.name}.${meanings[part].name}`,
        table,
        effect: effects[effect],
        to: [{ kind: "related", met, text: `${settingPrefix}${said(part, field.name)}` }],
        except: [],
        where: isPermit ? knownToRules(ruleset, subject, table) : always,
        becomes: undefined,
        alsoAfter: false,
        from: undefined,
        until: undefined,
        extents: new Map(actions.map((action) => [action, extent])),
        note: undefined,
        copyOf: undefined,
        ignore: meansNothing,
        path: [],
      },
    ];
  });
}

/** What is set on one record stands in place of what is set on all. */
function whoOf(ruleset: Ruleset, table: Table, settings: FieldSettings): SettingWho {
  const on = (part: RecordPart): Expression => {
    if (addressesOf(settings, part) === undefined) return never;
    const slot = slotOf(ruleset, settings.field, part);
    const role = `${settingPrefix}${part} ${table.name}.${settings.field.name}`;
    return isAmong(table, { kind: "held", type: list(scalarTypes.text), role, slot });
  };
  const meets = (part: SettingPart, apart: RecordPart) =>
    whoMeets(settings.whole[part] ? always : never, on(part), on(apart));
  return {
    none: meets("none", "counts"),
    view: meets("view", "counts"),
    // What gives counts where nothing else is said of the record, for certain or not.
    addsView: meets("addsView", "any"),
    addsEdit: meets("addsEdit", "any"),
  };
}

/** Places among a session's values, by ruleset and field: behind those of the operands that rules compare. */
const slots = new WeakMap<Ruleset, Map<Field, number>>();

function slotOf(ruleset: Ruleset, field: Field, part: RecordPart): number {
  const own = slots.get(ruleset) ?? new Map<Field, number>();
  slots.set(ruleset, own);
  const first = own.get(field) ?? ruleset.sessionOperands.slots.size + own.size * recordParts.length;
  own.set(field, first);
  return first + recordParts.indexOf(part);
}

/** Writes the records that something is set on where the rules of {@link settingRules} look for them. */
export function addSettingValues(
  ruleset: Ruleset,
  { addresses }: PersonSettings,
  values: (Scalar | undefined)[],
): void {
  for (const { field, part, list: found } of addresses) values[slotOf(ruleset, field, part)] = found;
}

/** Set on the record itself, or on all while nothing else is set on it. */
export function whoMeets(whole: Expression, record: Expression, isSetApart: Expression): Expression {
  return or([and([whole, not(isSetApart)]), record]);
}

/** Whether a record's address is in a list of texts that a session knows. */
export function isAmong(table: Table, addresses: Operand): Expression {
  return { kind: "belongs", path: [table.address], subject: addresses };
}

/** Whether some rule permits the person to list or view anything of a record; rules on cells, and what is denied, aside. */
function knownToRules(ruleset: Ruleset, subject: Subject, table: Table): Expression {
  const permits = new Set(
    knownBy.flatMap((action) =>
      ruleset.of(table.name, action).filter(({ effect, extents }) => {
        const extent = extents.get(action);
        const showsAny = extent !== undefined && [...extent.fields].some(isOwn) && extent.cells === undefined;
        return effect.name === "permit" && showsAny;
      }),
    ),
  );
  const met = (rule: Rule) => {
    const any = (list: Rule["to"]) => or(list.map((who) => entryApplies(who, subject)));
    return and([subject.inForce(rule), any(rule.to), not(any(rule.except)), rule.where]);
  };
  return or([...permits].map(met));
}
