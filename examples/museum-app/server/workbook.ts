import exceljs from "exceljs";
import type { Row } from "portier";

/** A grid as a workbook is to hold it. */
export interface SheetOut {
  readonly name: string;
  /** From A on. */
  readonly columns: readonly { readonly name: string; readonly isNumber: boolean }[];
  readonly rows: readonly { readonly position: number; readonly record: Row }[];
}

/** A workbook with one sheet of the records' values. */
export async function writeWorkbook({ name, columns, rows }: SheetOut): Promise<Uint8Array> {
  const workbook = new exceljs.Workbook();
  const sheet = workbook.addWorksheet(name);
  for (const { position, record } of rows) {
    for (const [index, column] of columns.entries()) {
      const cell = sheet.getCell(position, index + 1);
      const value = record[column.name];
      if (value !== null && value !== undefined) cell.value = column.isNumber ? Number(value) : textOf(value);
      if (column.isNumber) cell.numFmt = "0.00";
    }
  }
  for (const [index] of columns.entries()) sheet.getColumn(index + 1).width = index === 0 ? 36 : 12;
  return new Uint8Array(await workbook.xlsx.writeBuffer());
}

function textOf(value: unknown): string {
  return typeof value === "object" ? JSON.stringify(value) : String(value);
}
