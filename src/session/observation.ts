import type { Reason } from "./decision.js";

/**
 * What would have been refused or hidden, if the rules of a table that is observed were enforced: one for all records and
 * fields of a call of which the same is to be said. Plain JSON.
 */
export interface Observation {
  /** When, an instant. */
  readonly at: string;
  /** The key of the person; null for a visitor. */
  readonly person: string | null;
  /** Who acted for them, if anybody did. */
  readonly actedBy: string | null;
  /** The roles that the person held. */
  readonly roles: readonly string[];
  readonly table: string;
  readonly action: string;
  /** The fields that would have been refused or hidden; empty for the act or the record as a whole. */
  readonly fields: readonly string[];
  /** How many records, and the addresses of three of them at most; none for a new one. */
  readonly records: number;
  /** Addresses of the records that it is about; none for a new one. */
  readonly keys: readonly string[];
  /** Whether the person owns each of these records. */
  readonly own: boolean;
  /** As a decision says it; `hidden`: of a list, the record or field would not be shown. */
  readonly reason: Exclude<Reason, "permitted"> | "unconfirmed" | "hidden";
  /** The rule that would have refused it, or would have asked for a confirmation. */
  readonly rule: string | null;
}

/** What is noted of one field of one record. */
export interface Noted {
  readonly table: string;
  readonly action: string;
  readonly field: string | undefined;
  /** Which record: the same object for what is noted of it, whether it has a key or none yet. */
  readonly record: object;
  readonly key: string | undefined;
  /** How many records it stands for. Default: 1. */
  readonly records?: number;
  readonly own: boolean;
  readonly reason: Observation["reason"];
  readonly rule: string | undefined;
}

/** Whose session it was. */
export type Observed = Pick<Observation, "person" | "actedBy" | "roles">;

const mostKeys = 3;

/** What is noted in one call, as observations: what was asked of a record more than once is one. */
export function observationsOf(noted: readonly Noted[], of: Observed, at: string): Observation[] {
  const byRecord = new Map<string, { one: Noted; fields: Set<string> }>();
  const numbers = new Map<object, number>();
  for (const one of noted) {
    const number = numbers.get(one.record) ?? numbers.size;
    numbers.set(one.record, number);
    const id = JSON.stringify([one.table, one.action, one.key ?? number, one.reason, one.rule]);
    const found = byRecord.get(id) ?? { one, fields: new Set<string>() };
    byRecord.set(id, found);
    if (one.field !== undefined) found.fields.add(one.field);
  }
  const alike = new Map<string, { one: Noted; fields: string[]; keys: string[]; records: number; own: boolean }>();
  for (const { one, fields } of byRecord.values()) {
    const names = [...fields].sort();
    const id = JSON.stringify([one.table, one.action, one.reason, one.rule, names]);
    const found = alike.get(id) ?? { one, fields: names, keys: [], records: 0, own: true };
    alike.set(id, found);
    found.records += one.records ?? 1;
    found.own &&= one.own;
    if (one.key !== undefined && found.keys.length < mostKeys) found.keys.push(one.key);
  }
  return [...alike.values()].map(({ one: { table, action, reason, rule }, fields, keys, records, own }) => ({
    ...{ at, ...of, table, action, fields, records, keys, own, reason },
    rule: rule ?? null,
  }));
}
