import { type Portier, PortierError, type Problem, type Row } from "portier";
import { compileText, type Data, readData } from "portier/document";
import { explain } from "portier/explain";
import { type CellView, type ExplanationWords, explanationWords, recordKey, recordView } from "portier/tooling";
import { diffAccess, personViewers, type Viewer } from "portier/verify";

/** What somebody writes: rules, and records as CSV, table by table. */
export interface Written {
  readonly rules: string;
  readonly data: Readonly<Record<string, string>>;
}

/** Rules and records that fit each other. */
export interface Played {
  readonly portier: Portier;
  readonly data: Data;
  /** The visitor, and everybody of the table of people. */
  readonly viewers: readonly Viewer[];
}

/** A table as one person sees it. */
export interface SeenTable {
  readonly name: string;
  readonly columns: readonly string[];
  /** Each record with its key; without cells where it does not exist for them. */
  readonly rows: readonly { readonly key: string; readonly cells: readonly CellView[] | undefined }[];
  readonly mayCreate: boolean;
}

/** @throws PortierError with every problem, of the rules or of the records. */
export function play({ rules, data: texts }: Written): Played {
  const portier = compileText(rules, { file: "rules" });
  const files = Object.entries(texts).filter(([table]) => portier.schema.tables.has(table));
  const data = readData(
    portier,
    files.map(([table, text]) => ({ table, file: `${table}.csv`, text })),
  );
  const { people } = portier.schema;
  const persons = people === undefined ? [] : (data.tables.get(people.table.name) ?? []);
  return { portier, data, viewers: personViewers(portier, persons, { source: data.source, onDiagnostic: () => {} }) };
}

/** What is wrong with what was written. */
export function problemsOf(error: unknown): readonly Problem[] {
  if (error instanceof PortierError) return error.problems;
  return [{ code: "fault", message: error instanceof Error ? error.message : String(error), path: [] }];
}

export function seenTables({ portier, data }: Played, { session }: Viewer): SeenTable[] {
  return [...portier.schema.tables.values()].map((table) => ({
    name: table.name,
    columns: table.fields.map(({ name }) => name),
    mayCreate: session.reach("create", table.name) !== "none",
    rows: (data.tables.get(table.name) ?? []).map((row) => ({
      key: keyOf(portier, table.name, row),
      cells: recordView(session, table, row)?.cells,
    })),
  }));
}

/** Why somebody sees a cell or not, or may edit it or not. */
export function why(
  { portier, data }: Played,
  { session, name }: Viewer,
  cell: { readonly table: string; readonly key: string; readonly field: string; readonly action: "view" | "edit" },
): ExplanationWords {
  const record = (data.tables.get(cell.table) ?? []).find((row) => keyOf(portier, cell.table, row) === cell.key);
  const explanation = explain(session, { ...cell, ...(record && { record }) });
  return explanationWords(explanation, name, `${cell.table}/${cell.key}`);
}

/** Who gains and loses what from one state to another, in lines: `+ Odalys Quint: view objects (insured_value) on 2`. */
export function gains(before: Played, after: Played): string[] {
  const names = new Map(after.viewers.map(({ id, name }) => [id, name]));
  return diffAccess(before.viewers, after.viewers, (table) => after.data.tables.get(table) ?? []).flatMap((one) => {
    const who = one.persons.map((id) => names.get(id) ?? id).join(", ");
    const line = (sign: string) => (change: (typeof one.gains)[number]) => {
      const fields = change.fields.length === 0 ? "" : ` (${change.fields.join(", ")})`;
      const where = change.records === undefined ? "" : ` on ${change.records} of ${change.of}`;
      return `${sign} ${who}: ${change.actions.join(", ")} ${change.table}${fields}${where}`;
    };
    return [...one.gains.map(line("+")), ...one.losses.map(line("−"))];
  });
}

function keyOf(portier: Portier, table: string, row: Row): string {
  const declared = portier.schema.tables.get(table);
  return declared === undefined ? "" : recordKey(declared, row);
}
