import type { Acceptance, Row } from "portier";
import type { KeptRange, LostRange, NewRange, RangeChange, RangePlace } from "portier/ranges";
import type { SharedDifference } from "portier/verify";
import { ApiError, allOrNothing, call, get, listRecords, type ManyResults, post } from "../api.js";
import type { Block, CellChange } from "./block.js";

/** The ranges of the plan; who may not change them is not told which rules they are of. */
export interface Ranges {
  readonly ranges: readonly KeptRange[];
  /** The fields of the columns, from A on. */
  readonly columns: readonly string[];
  /** Whom a range can be for; empty for those who may not change it. */
  readonly roles: readonly string[];
  readonly mayChange: boolean;
  /** Where the house is: it decides on which day a range begins to count. */
  readonly timeZone: string;
}

export type RangeEdit =
  | { readonly kind: "edit"; readonly place: RangePlace; readonly change: RangeChange }
  | { readonly kind: "add"; readonly added: NewRange }
  | { readonly kind: "remove"; readonly place: RangePlace };

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

export const previewRanges = async (edit: RangeEdit): Promise<readonly SharedDifference[]> =>
  (await post<{ differences: readonly SharedDifference[] }>("/plan/ranges/preview", edit)).differences;

export const changeRanges = (edit: RangeEdit): Promise<void> => post("/plan/ranges", edit);

/** What became of a row: an acceptance, or ranges that would be gone with it. */
export type RowOutcome =
  | { readonly accepted: true; readonly key: string | null }
  | Extract<Acceptance, { accepted: false }>
  | { readonly accepted: false; readonly reason: "ranges-lost"; readonly lost: readonly LostRange[] };

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
  readonly ranges: readonly { readonly name: string; readonly range: string }[];
}

/** What is in a workbook. */
export async function readSheet(file: File): Promise<SheetIn> {
  const response = await fetch("/api/plan/sheet", { method: "POST", body: await file.arrayBuffer() });
  const body = await response.json();
  if (!response.ok) throw new ApiError({ title: "This file cannot be read", ...body, status: response.status });
  return body as SheetIn;
}
