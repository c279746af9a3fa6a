import type { ChangeResult, Row } from "portier";
import type { LostCells, ProtectionChange, RoleOutcome } from "portier/people";
import type { KeptRange } from "portier/ranges";
import type { SharedDifference } from "portier/verify";
import { ApiError, allOrNothing, call, get, listRecords, type ManyResults, post } from "../api.js";
import type { Block, CellChange } from "./block.js";

/** A range of the plan: one that a rule fixes, or one that somebody protected. */
export interface PlanRange extends Omit<KeptRange, "rule"> {
  /** Who protected it, and when; null for what a rule fixes. */
  readonly by: string | null;
  readonly at: string | null;
  /** Whether it is theirs to change. */
  readonly mayChange: boolean;
}

export interface Ranges {
  readonly ranges: readonly PlanRange[];
  /** The fields of the columns, from A on. */
  readonly columns: readonly string[];
  /** Whom a range can be for; empty for those who protect nothing. */
  readonly who: readonly { readonly value: string; readonly label: string }[];
  readonly mayProtect: boolean;
  /** The time zone of the museum: it decides on which day a range begins to count. */
  readonly timeZone: string;
}

const pageSize = 5_000;

/** All rows that one sees, in their order. */
export async function readPlan(): Promise<readonly Row[]> {
  const rows: Row[] = [];
  for (;;) {
    const page = await listRecords("plan", { sort: "row", limit: String(pageSize), offset: String(rows.length) });
    rows.push(...page.records);
    if (rows.length >= page.total || page.records.length === 0) return rows;
  }
}

/** All of the cells are changed, or none; then there is a result for each record, in the order of their first cells. */
export function saveCells(changes: readonly CellChange[], confirmed: readonly string[]): Promise<ManyResults> {
  const keyed = byRecord(changes).map(([key, cells]) => ({
    key,
    values: Object.fromEntries(cells.map(({ field, value }) => [field, value])),
  }));
  return allOrNothing(
    async () => (await call<ManyResults>("PATCH", "/records/plan", { changes: keyed, confirmed })).body,
  );
}

/** Cells by the record that they are of. */
export function byRecord(changes: readonly CellChange[]): [string, CellChange[]][] {
  const groups = new Map<string, CellChange[]>();
  for (const one of changes) groups.set(one.key, [...(groups.get(one.key) ?? []), one]);
  return [...groups];
}

export const readRanges = (): Promise<Ranges> => get("/plan/ranges");

/** What a change would come to, for everybody. */
export interface Previewed {
  readonly outcome: RoleOutcome;
  readonly differences: readonly SharedDifference[];
}

export const previewRanges = (change: ProtectionChange): Promise<Previewed> => post("/plan/ranges/preview", { change });

export const changeRanges = (change: ProtectionChange, confirmed: readonly string[]): Promise<RoleOutcome> =>
  post("/plan/ranges", { change, confirmed });

/** What became of a row: it is done, or there are protections that would be gone with it. */
export type RowOutcome =
  | { readonly accepted: true; readonly key: string | null }
  | Extract<ChangeResult, { accepted: false }>
  | { readonly accepted: false; readonly reason: "lost-cells"; readonly lost: readonly LostCells[] };

export function insertRow(at: number, confirmed: readonly string[]): Promise<RowOutcome> {
  return outcomeOf("POST", "/plan/rows", { at, confirmed });
}

export function deleteRow(key: string, confirmed: readonly string[], acceptLost: boolean): Promise<RowOutcome> {
  return outcomeOf("DELETE", `/plan/rows/${encodeURIComponent(key)}`, { confirmed, acceptLost });
}

async function outcomeOf(method: string, path: string, body: object): Promise<RowOutcome> {
  try {
    return (await call<RowOutcome>(method, path, body)).body;
  } catch (error) {
    const given = error instanceof ApiError ? (error.problem as unknown as Partial<RowOutcome>) : {};
    if (given.accepted === undefined) throw error;
    return given as RowOutcome;
  }
}

export interface SheetIn {
  readonly cells: Block;
  readonly ranges: readonly { readonly name: string; readonly ranges: readonly string[] }[];
}

/** What is in a workbook. */
export async function readSheet(file: File): Promise<SheetIn> {
  const response = await fetch("/api/plan/sheet", { method: "POST", body: await file.arrayBuffer() });
  const body = await response.json();
  if (!response.ok) throw new ApiError({ title: "This file cannot be read", ...body, status: response.status });
  return body as SheetIn;
}
