import { readdirSync, readFileSync } from "node:fs";
import { resolve } from "node:path";
import type { Row, Session } from "portier";
import { compileText, readData, readRoles } from "portier/document";

/** The museum as an application would load it: the document and the data of the examples. */
export const museumFolder = `${resolve("examples/museum")}/`;
export const museumFile = `${museumFolder}museum.portier.yaml`;
export const museumData = `${museumFolder}data`;

export const portier = compileText(readFileSync(museumFile, "utf8"), { file: "museum.portier.yaml" });

export const museumRoles = `${museumFolder}museum.roles.json`;

const data = readData(portier, [
  ...readdirSync(museumData).map((name) => ({
    table: name.replace(".json", ""),
    file: name,
    text: readFileSync(`${museumData}/${name}`, "utf8"),
  })),
  ...readRoles({ file: "museum.roles.json", text: readFileSync(museumRoles, "utf8") }),
]);

export const { source } = data;

export function records(table: string): readonly Row[] {
  return data.tables.get(table) ?? [];
}

export function record(table: string, key: string): Row {
  const found = source.find(table, key);
  if (found === undefined) throw new Error(`the museum has no ${table}/${key}`);
  return found;
}

/** The session of a person, or of a visitor. A fault or bad data in the museum fails the test that meets it. */
export function as(person?: string): Session {
  const onDiagnostic = ({ message }: { message: string }) => {
    throw new Error(message);
  };
  return portier.session({
    ...(person === undefined ? {} : { person }),
    source,
    onDiagnostic,
    request: { now: "2026-11-24T09:00:00Z" },
  });
}
