import { type Reading, rawValue } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { False, True } from "../conditions/truth.js";
import { joinAddress, splitAddress } from "../schema/address.js";
import { nearest } from "../schema/nearest.js";
import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import {
  type Field,
  type Schema,
  type SettingLevel,
  type SettingSource,
  settingLevels,
  type Table,
} from "../schema/schema.js";
import { storedValue } from "../schema/types/stored-form.js";
import { isRunning } from "./assigned-roles.js";
import { Recent } from "./recent.js";

/** What is set of one field, on all records or on one. */
export interface SettingState {
  /** Hidden, and kept as it is; kept as it is. */
  readonly none: boolean;
  readonly view: boolean;
  /** Opened to be seen, and edited, where the declaration says that it may be. */
  readonly addsView: boolean;
  readonly addsEdit: boolean;
  /** Whether what is set on one record counts for certain, and so stands in place of what is set on all. */
  readonly counts: boolean;
}

export interface FieldSettings {
  readonly field: Field;
  readonly whole: SettingState;
  /** By the address of the one record that it is about. */
  readonly records: ReadonlyMap<string, SettingState>;
}

/** What is set of one person. */
export interface PersonSettings {
  /** The same for two persons of whom the same is set. */
  readonly id: string;
  /** The same for two persons of whom the same is set but for the records that it is about. */
  readonly shape: string;
  /** By table. */
  readonly of: ReadonlyMap<string, readonly FieldSettings[]>;
  /** The records of which something is set, see {@link addressesOf}. */
  readonly addresses: readonly SetRecords[];
}

/** The records of which a part is set, as a canonical list of texts. */
export interface SetRecords {
  readonly field: Field;
  readonly part: RecordPart;
  readonly list: string;
}

export const nothingSet: PersonSettings = { id: "", shape: "", of: new Map(), addresses: [] };

/** What records that something is set on have in common. */
export const recordParts = ["none", "view", "addsView", "addsEdit", "counts", "any"] as const;

export type RecordPart = (typeof recordParts)[number];

/** The addresses of the records of which a part is set, as a canonical list of texts; undefined for none. */
export function addressesOf({ records }: FieldSettings, part: RecordPart): string | undefined {
  const found = [...records].flatMap(([address, state]) => (part === "any" || state[part] ? [address] : []));
  return found.length === 0 ? undefined : JSON.stringify(found.sort());
}

const unset: SettingState = { none: false, view: false, addsView: false, addsEdit: false, counts: false };

/** One setting, as it stands in its record. */
export interface Setting {
  readonly table: Table;
  readonly field: Field;
  readonly level: SettingLevel;
  /** The address of the record that it is about; null for all. */
  readonly record: string | null;
  /** False where it cannot be read when it begins or ends: then it takes away, and gives nothing. */
  readonly counts: boolean;
}

/**
 * What is set of a person now. Of several settings of the same thing each counts: what one takes away, none gives back.
 *
 * @throws PortierError (`bad-setting`) for one that names no field or no level: it is never silently nothing.
 */
export function readSettings(schema: Schema, key: Scalar, now: string, reading: Reading): PersonSettings {
  const source = schema.people?.settings;
  if (source === undefined) return nothingSet;
  const { table, person } = source;
  if (reading.source?.referring === undefined) {
    const what = `finding the settings in "${table.name}"`;
    throw portierError("needs-source", reading.source === undefined ? { what } : { what, method: "referring" });
  }
  const found: Setting[] = [];
  for (const row of reading.source.referring(table.name, person.name, String(key))) {
    if (storedValue(person.type, rawValue(row, person.name)) !== key) continue;
    const running = isRunning(source, row, now, reading);
    const setting = running === False ? undefined : settingIn(source, schema, row);
    if (setting !== undefined) found.push({ ...setting, counts: running === True });
  }
  if (found.length === 0) return nothingSet;
  // Sessions are opened for every request, and mostly of those for whom one was opened before.
  const id = found.map(textOf).sort().join("\n");
  const recent = known.get(source) ?? new Recent<PersonSettings>(1_000);
  known.set(source, recent);
  const made = recent.get(id) ?? settingsOf(id, found, source);
  recent.set(id, made);
  return made;
}

const known = new WeakMap<SettingSource, Recent<PersonSettings>>();

/** The record comes last: no name has a control character, and an address may have any. */
function textOf({ table, field, level, record, counts }: Setting): string {
  return `${table.name}\t${field.name}\t${level}\t${counts}\t${record === null ? "" : JSON.stringify(record)}`;
}

function settingsOf(id: string, found: readonly Setting[], { adds }: SettingSource): PersonSettings {
  const byTable = new Map<string, Map<Field, { whole: SettingState; records: Map<string, SettingState> }>>();
  for (const { table, field, level, record, counts } of found) {
    const fields =
      byTable.get(table.name) ?? new Map<Field, { whole: SettingState; records: Map<string, SettingState> }>();
    byTable.set(table.name, fields);
    const own = fields.get(field) ?? { whole: unset, records: new Map<string, SettingState>() };
    fields.set(field, own);
    const may = adds.get(table.name);
    const opens = counts && level !== "none" && may?.view.has(field) === true;
    const state: SettingState = {
      none: level === "none",
      view: level === "view",
      addsView: opens,
      addsEdit: opens && level === "edit" && may.edit.has(field),
      counts,
    };
    if (record === null) own.whole = together(own.whole, state);
    else own.records.set(record, together(own.records.get(record) ?? unset, state));
  }
  const of = new Map(
    [...byTable].map(([name, fields]) => [name, [...fields].map(([field, own]): FieldSettings => ({ field, ...own }))]),
  );
  const addresses = [...of.values()].flat().flatMap((own) =>
    recordParts.flatMap((part): SetRecords[] => {
      const list = addressesOf(own, part);
      return list === undefined ? [] : [{ field: own.field, part, list }];
    }),
  );
  return { id, shape: shapeOf(of), of, addresses };
}

function shapeOf(of: PersonSettings["of"]): string {
  const fields = [...of].flatMap(([table, own]) =>
    own.map((one) => [
      ...[table, one.field.name, Object.values(one.whole)],
      recordParts.filter((part) => addressesOf(one, part) !== undefined),
    ]),
  );
  return JSON.stringify(fields.sort((a, b) => (String(a) < String(b) ? -1 : 1)));
}

function together(one: SettingState, other: SettingState): SettingState {
  return {
    none: one.none || other.none,
    view: one.view || other.view,
    addsView: one.addsView || other.addsView,
    addsEdit: one.addsEdit || other.addsEdit,
    counts: one.counts || other.counts,
  };
}

/** What a record sets; undefined where one of its parts is null: then it sets nothing. */
export function settingIn(source: SettingSource, schema: Schema, row: Row): Omit<Setting, "counts"> | undefined {
  const [on, named, level] = [source.on, source.field, source.level].map((field) => rawValue(row, field.name));
  if (on === null || named === null || level === null) return undefined;
  const person = String(rawValue(row, source.person.name));
  const bad = (what: string, hint?: string) =>
    portierError("bad-setting", { person, table: source.table.name, what, hint });
  const table = typeof on === "string" ? schema.tables.get(on) : undefined;
  if (table === undefined) throw bad(`there is no table "${String(on)}"`, near(on, schema.tables.keys()));
  const field = typeof named === "string" ? table.byName.get(named) : undefined;
  if (field === undefined)
    throw bad(`"${table.name}" has no field "${String(named)}"`, near(named, table.byName.keys()));
  if (table.key.includes(field))
    throw bad(`"${field.name}" is the key of "${table.name}", which is seen with any field`);
  if (!isLevel(level)) throw bad(`the level ${JSON.stringify(level)} is none of ${settingLevels.join(", ")}`);
  return { table, field, level, record: recordIn(source, table, row, bad) };
}

function recordIn({ record }: SettingSource, table: Table, row: Row, bad: (what: string) => Error): string | null {
  const raw = record === undefined ? null : rawValue(row, record.name);
  if (record === undefined || raw === null) return null;
  const { target } = record.type;
  const value = target === undefined || target === table.name ? storedValue(record.type, raw) : undefined;
  const key =
    value === undefined
      ? undefined
      : splitAddress(
          table.key.map(({ type }) => type),
          String(value),
        );
  if (key === undefined) throw bad(`${JSON.stringify(raw)} is not a key of "${table.name}"`);
  return joinAddress(key);
}

function isLevel(value: unknown): value is SettingLevel {
  return settingLevels.some((level) => level === value);
}

function near(name: unknown, candidates: Iterable<string>): string | undefined {
  const found = nearest(String(name), [...candidates]);
  return found === undefined ? undefined : `did you mean "${found}"?`;
}
