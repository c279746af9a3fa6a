import type { Row } from "../conditions/source.js";
import { type ActionName, actionNamesOf, actionOf } from "../rules/actions.js";
import { recordAddress } from "../schema/address.js";
import type { Field, Table } from "../schema/schema.js";
import { insidesOf } from "../session/portier.js";
import { residualSteps } from "../session/residual.js";
import type { Session } from "../session/session.js";
import { encode } from "../session/snapshot.js";

/** Something that somebody may do after a change and might not before, or the other way round. */
export interface AccessChange {
  readonly table: string;
  readonly action: ActionName;
  /** The fields that it is about; empty for what is done with a record as a whole. */
  readonly fields: readonly string[];
  /** On how many records; undefined for making new ones. */
  readonly records: number | undefined;
  /** How many records there are. */
  readonly of: number;
  /** The addresses of some of them, three at most. */
  readonly samples: readonly string[];
  /** Whether one of the fields is marked sensitive. */
  readonly sensitive: boolean;
}

export interface AccessDifference {
  readonly gains: readonly AccessChange[];
  readonly losses: readonly AccessChange[];
}

/** All records of a table, where they are at hand. */
export type AllRecords = (table: string) => Iterable<Row>;

/** How many addresses are told. */
const sampleCount = 3;

/**
 * What one session may and another may not, per table, action and field, counted on real records. The sessions may be
 * of one person before and after a change of roles, or under two documents.
 */
export function accessDifference(before: Session, after: Session, records: AllRecords): AccessDifference {
  const gains: AccessChange[] = [];
  const losses: AccessChange[] = [];
  for (const table of tablesThatDiffer(before, after)) {
    const rows = [...records(table.name)];
    for (const action of actionNamesOf(table)) {
      const lists = compareAction(before, after, table, action, rows);
      gains.push(...lists.gains);
      losses.push(...lists.losses);
    }
  }
  return { gains, losses };
}

/**
 * The tables where the rules come to something else. What a table's conditions ask of other tables is not looked into:
 * where they ask for anything, a difference anywhere counts.
 */
function tablesThatDiffer(before: Session, after: Session): Table[] {
  const tables = [...insidesOf(after).ruleset.schema.tables.values()].filter(({ name }) =>
    insidesOf(before).ruleset.schema.tables.has(name),
  );
  const plans = tables.map((table) => {
    const [one, other] = [planText(before, table), planText(after, table)];
    const looksElsewhere = (text: string) => /"kind":"(?:may|exists)"/.test(text) || table.fields.some((f) => f.lookup);
    return { table, differs: one !== other, looksElsewhere: looksElsewhere(one) || looksElsewhere(other) };
  });
  const isAnywhere = plans.some(({ differs }) => differs);
  return plans.filter((one) => one.differs || (isAnywhere && one.looksElsewhere)).map(({ table }) => table);
}

function planText(session: Session, table: Table): string {
  return JSON.stringify(actionNamesOf(table).map((action) => residualText(session, table.name, action)));
}

/** What is left of the rules for an action, or for one field of it, as a text: equal texts decide the same. */
export function residualText(session: Session, table: string, action: ActionName, field?: string): string {
  const { ruleset, subject } = insidesOf(session);
  const own = ruleset.schema.tables.get(table);
  if (own === undefined) return "";
  const steps = residualSteps(ruleset, subject)(own, action);
  const asked = field === undefined ? undefined : own.byName.get(field);
  return JSON.stringify(steps.filter((step) => asked === undefined || step.extent.fields.has(asked)).map(encode));
}

/** What two sessions answer about one thing, and on which records they differ. */
interface Difference {
  readonly field: Field | undefined;
  readonly gained: readonly string[];
  readonly lost: readonly string[];
}

function compareAction(
  before: Session,
  after: Session,
  table: Table,
  action: ActionName,
  rows: readonly Row[],
): AccessDifference {
  const speaksOf = actionOf(table, action)?.speaksOf;
  const isNew = actionOf(table, action)?.judges === "new";
  const fields = speaksOf === "record" ? [undefined] : table.fields;
  const differences = fields.map((field): Difference => {
    const isOpen = [before, after].some(
      (session) => session.reach(action, table.name, field?.name as never) !== "none",
    );
    if (!isOpen) return { field, gained: [], lost: [] };
    if (isNew) {
      const [was, is] = [before, after].map((session) => session.may(action, table.name, undefined, field?.name));
      return { field, gained: is && !was ? [""] : [], lost: was && !is ? [""] : [] };
    }
    const gained: string[] = [];
    const lost: string[] = [];
    for (const row of rows) {
      const was = before.may(action, table.name, row, field?.name);
      const is = after.may(action, table.name, row, field?.name);
      if (was !== is) (is ? gained : lost).push(recordAddress(table, row) ?? "?");
    }
    return { field, gained, lost };
  });
  const lines = (which: "gained" | "lost") => grouped(differences, which, { table, action, of: rows.length, isNew });
  return { gains: lines("gained"), losses: lines("lost") };
}

interface GroupOptions {
  readonly table: Table;
  readonly action: ActionName;
  readonly of: number;
  readonly isNew: boolean;
}

/** Fields that differ on the same records share a line. */
function grouped(
  differences: readonly Difference[],
  which: "gained" | "lost",
  { table, action, of, isNew }: GroupOptions,
): AccessChange[] {
  const lines = new Map<string, { fields: Field[]; records: readonly string[] }>();
  for (const { field, [which]: records } of differences) {
    if (records.length === 0) continue;
    const id = JSON.stringify([records, field?.sensitive === true]);
    const line = lines.get(id) ?? { fields: [], records };
    if (field !== undefined) line.fields.push(field);
    lines.set(id, line);
  }
  return [...lines.values()].map(({ fields, records }) => ({
    table: table.name,
    action,
    fields: fields.map(({ name }) => name),
    records: isNew ? undefined : records.length,
    of,
    samples: isNew ? [] : records.slice(0, sampleCount),
    sensitive: fields.some(({ sensitive }) => sensitive),
  }));
}
