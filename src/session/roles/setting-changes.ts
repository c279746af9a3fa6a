import { quietly, type Reading } from "../../conditions/read.js";
import type { Row, Source } from "../../conditions/source.js";
import { True } from "../../conditions/truth.js";
import { PortierError } from "../../schema/problems.js";
import { type Schema, type SettingSource, singleKey } from "../../schema/schema.js";
import { storedValue } from "../../schema/types/stored-form.js";
import type { StoredWrite } from "../overlay.js";
import { type PersonSettings, readSettings, type SettingState, settingIn } from "../person-settings.js";
import type { AssignmentContext } from "./assignment-context.js";
import { refuse } from "./refusal.js";

/**
 * Judges changes of what is set of persons, as the assignments that they are: by whom, not while acting for another and not
 * to widen one's own rights, unless they have confirmed (`isConfirmed`) that it is what they want.
 */
export function checkSettings(
  context: AssignmentContext,
  after: Source,
  writes: readonly StoredWrite[],
  isConfirmed: boolean,
): void {
  const { schema, source, assigner } = context;
  const settings = schema.people?.settings;
  if (settings === undefined) return;
  const rows = writes.filter(({ table }) => table === settings.table);
  if (rows.length === 0) return;
  mustSet(context, settings);
  for (const { after: row } of rows) if (row !== undefined) checkReadable(settings, schema, row);
  for (const person of personsOf(settings, rows)) {
    const isOwn = person === assigner.person;
    if (!isOwn && person !== assigner.actedBy) continue;
    if (!widensSettings(schema, source, after, person, assigner.now)) continue;
    if (!isOwn) refuse("not-while-acting", { what: "set anything for yourself" });
    if (!isConfirmed) refuse("assigns-oneself", {});
  }
}

/** Whoever sets anything must be one of those whom the declaration names. */
export function mustSet(context: AssignmentContext, { settableBy }: SettingSource): void {
  if (!settableBy.some((name) => context.held().of(name) === True)) refuse("may-not-set", { assigners: settableBy });
}

/** What nobody could read would keep the person out. */
function checkReadable(settings: SettingSource, schema: Schema, row: Row): void {
  try {
    settingIn(settings, schema, row);
  } catch (error) {
    if (!(error instanceof PortierError)) throw error;
    const { message = "", hint } = error.problems[0] ?? {};
    refuse("invalid-setting", { what: message, hint });
  }
}

function personsOf({ person }: SettingSource, writes: readonly StoredWrite[]): Set<string> {
  const found = writes.flatMap(({ before, after }) => [before?.[person.name], after?.[person.name]]);
  return new Set(found.filter((key) => key !== undefined && key !== null).map(String));
}

/** Whether a change takes back anything that was taken from a person, or opens anything to them, now or later. */
export function widensSettings(schema: Schema, before: Source, after: Source, person: string, now: string): boolean {
  const instants = new Set([now, ...turnsOf(schema, before, person, now), ...turnsOf(schema, after, person, now)]);
  return [...instants].some((at) => {
    const [was, is] = [before, after].map((source) => settingsAt(schema, source, person, at));
    return was === undefined || is === undefined || isWider(was, is);
  });
}

/** Undefined where they cannot be read. */
function settingsAt(schema: Schema, source: Source, person: string, now: string): PersonSettings | undefined {
  const key = schema.people && singleKey(schema.people.table);
  const value = key && storedValue(key.type, key.type.base === "integer" ? Number(person) : person);
  const reading: Reading = quietly({ source, badData: () => {}, fault: () => {} });
  try {
    return value === undefined ? undefined : readSettings(schema, value, now, reading);
  } catch (error) {
    if (error instanceof PortierError && error.code === "bad-setting") return undefined;
    throw error;
  }
}

/** When what is set of a person begins or ends, after an instant. */
function turnsOf({ people }: Schema, source: Source, person: string, now: string): string[] {
  const settings = people?.settings;
  const ends = settings === undefined ? [] : [settings.from, settings.until].filter((field) => field !== undefined);
  if (settings === undefined || ends.length === 0) return [];
  const rows = [...(source.referring?.(settings.table.name, settings.person.name, person) ?? [])];
  return rows.flatMap((row) =>
    ends.flatMap((field) => {
      const at = storedValue(field.type, row[field.name]);
      return typeof at === "string" && at > now ? [at] : [];
    }),
  );
}

const nothing: SettingState = { none: false, view: false, addsView: false, addsEdit: false, counts: false };

function isWider(was: PersonSettings, is: PersonSettings): boolean {
  const tables = new Set([...was.of.keys(), ...is.of.keys()]);
  return [...tables].some((table) => {
    const [before, after] = [was, is].map(({ of }) => of.get(table) ?? []) as [Fields, Fields];
    const fields = new Set([...before, ...after].map(({ field }) => field));
    return [...fields].some((field) => {
      const [one, other] = [before, after].map((list) => list.find((set) => set.field === field));
      // "" stands for all records of which nothing is said.
      const records = ["", ...(one?.records.keys() ?? []), ...(other?.records.keys() ?? [])];
      return records.some((record) => opensMore(stateOn(one, record), stateOn(other, record)));
    });
  });
}

type Fields = readonly { readonly field: unknown; readonly whole: SettingState; readonly records: PersonRecords }[];
type PersonRecords = ReadonlyMap<string, SettingState>;

function stateOn(set: Fields[number] | undefined, record: string): SettingState {
  const whole = set?.whole ?? nothing;
  const own = set?.records.get(record);
  if (own === undefined) return whole;
  // As rules have it: what is set on the record stands in place of the rest, what takes away only where it counts.
  return own.counts
    ? own
    : { ...own, none: own.none || whole.none, view: own.view || whole.view, addsView: false, addsEdit: false };
}

function opensMore(before: SettingState, after: SettingState): boolean {
  const [hid, hides] = [before.none, after.none];
  const [kept, keeps] = [before.none || before.view, after.none || after.view];
  return (
    (hid && !hides) ||
    (kept && !keeps) ||
    (after.addsView && !hides && !before.addsView) ||
    (after.addsEdit && !keeps && !before.addsEdit)
  );
}
