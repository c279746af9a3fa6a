import { findField } from "./field-path.js";
import { type Part, readFlag, readShape, readText, readTexts } from "./reader.js";
import type { Field, Grid, Table } from "./schema.js";

/** Reads the sheet that a table is: the field with the row, and the columns. */
export function readGrid(
  part: Part | undefined,
  table: Pick<Table, "name" | "fields" | "byName" | "key">,
): Grid | undefined {
  if (part === undefined) return undefined;
  const what = `grid of "${table.name}"`;
  const shape = readShape(part, what, ["position", "columns", "protections"]);
  const positionPart = shape.get("position");
  const name = readText(positionPart, `position of the ${what}`);
  if (positionPart === undefined) part.problems.add("missing-key", { what, key: "position" }, part.path);
  const position = positionPart && name !== undefined ? findField(positionPart, table, name) : undefined;
  if (positionPart === undefined || position === undefined) return undefined;
  if (position.type.name !== "integer" || position.computed) {
    const label = position.computed ? "computed field" : position.type.noun;
    const facts = { field: position.name, use: "position", expected: "a stored integer", label };
    part.problems.add("wrong-field-type", facts, positionPart.path);
    return undefined;
  }
  const protections = readFlag(shape.get("protections"), "protections");
  const columnsPart = shape.get("columns");
  if (columnsPart === undefined) {
    const columns = table.fields.filter((field) => field !== position && !table.key.includes(field));
    return { position, columns, protections };
  }
  const columns: Field[] = [];
  for (const entry of readTexts(columnsPart, `columns of the ${what}`)) {
    const field = findField(entry, table, entry.value as string);
    if (field === undefined) continue;
    if (columns.includes(field) || field === position) {
      entry.problems.add("duplicate-name", { what: "the column", name: field.name }, entry.path);
    } else columns.push(field);
  }
  return { position, columns, protections };
}
