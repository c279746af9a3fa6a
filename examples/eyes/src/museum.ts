import type { Row } from "portier";
import { compileText, readData, readRoles, recordKey } from "portier/document";
import { type CellView, personViewers, recordView, type Viewer } from "portier/verify";
import departments from "../../museum/data/departments.json?raw";
import exhibition_team from "../../museum/data/exhibition_team.json?raw";
import exhibitions from "../../museum/data/exhibitions.json?raw";
import exhibits from "../../museum/data/exhibits.json?raw";
import loans from "../../museum/data/loans.json?raw";
import objects from "../../museum/data/objects.json?raw";
import partners from "../../museum/data/partners.json?raw";
import plan from "../../museum/data/plan.json?raw";
import staff from "../../museum/data/staff.json?raw";
import treatments from "../../museum/data/treatments.json?raw";
import rules from "../../museum/museum.portier.yaml?raw";
import roles from "../../museum/museum.roles.json?raw";

/** The museum's document and data, as an application loads them. */
export const portier = compileText(rules, { file: "museum.portier.yaml" });

const texts = {
  departments,
  staff,
  objects,
  loans,
  treatments,
  exhibitions,
  exhibition_team,
  exhibits,
  partners,
  plan,
};
const data = readData(portier, [
  ...Object.entries(texts).map(([table, text]) => ({ table, file: `${table}.json`, text })),
  ...readRoles({ file: "museum.roles.json", text: roles }),
]);

export const tables = [...portier.schema.tables.values()];

/** Sessions of the demo are opened at this moment, so that what is told of it stays true. */
export const moment = "2026-11-24T09:00:00Z";

/** The visitor first, then everybody of the staff. */
export const viewers: readonly Viewer[] = personViewers(portier, data.tables.get("staff") ?? [], {
  source: data.source,
  request: { now: moment },
});

export function viewerById(id: string | undefined): Viewer | undefined {
  return viewers.find((viewer) => viewer.id === id);
}

/** `Odalys Quint`, or `A visitor`. */
export function nameOf(viewer: Viewer): string {
  return viewer.kind === "visitor" ? "A visitor" : viewer.name;
}

/** A record through the eyes of each viewer; no cells where it does not exist for them. */
export interface SeenRecord {
  readonly key: string;
  readonly row: Row;
  readonly views: readonly (readonly CellView[] | undefined)[];
}

/** The records of a table that exist for at least one of the viewers. */
export function seenRecords(tableName: string, eyes: readonly Viewer[]): SeenRecord[] {
  const table = portier.schema.tables.get(tableName);
  if (table === undefined) return [];
  return (data.tables.get(tableName) ?? [])
    .map((row) => ({
      key: recordKey(table, row),
      row,
      views: eyes.map(({ session }) => recordView(session, table, row)?.cells),
    }))
    .filter(({ views }) => views.some((view) => view !== undefined));
}
