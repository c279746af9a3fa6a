import type { Row } from "portier";
import { formatMembershipPath } from "portier/explain";
import { makeReport } from "portier/report";
import { membersOf } from "portier/tooling";
import { groupBy } from "../group-by.js";
import type { Standing } from "./project.js";
import type { LineOf, Memberships } from "./protocol.js";

/** Roles and groups: drawn, in sentences, with everybody in them. */
export function membershipsOf(standing: Standing): Memberships {
  const { portier, viewers } = standing;
  const persons = viewers.filter(({ kind }) => kind === "person");
  const report = makeReport(portier, { title: "" });
  const members = (name: string) =>
    membersOf(portier, persons, name).map(({ person, isCertain, ways }) => ({
      id: person.id,
      name: person.name,
      ways: isCertain
        ? ways.map((way) => formatMembershipPath(portier.schema, way))
        : ["unknown: it depends on data that cannot be read"],
    }));
  const roles = report.roles.map(({ name, note, facts, may }) => ({
    name,
    kind: "role" as const,
    note,
    facts,
    sentences: may.flatMap(({ table, sentences }) => sentences.map(({ text }) => `${table}: ${text}`)),
    members: members(name),
  }));
  const groups = report.groups.map(({ name, note, facts }) => ({
    name,
    kind: "group" as const,
    note,
    facts,
    sentences: [],
    members: members(name),
  }));
  return { picture: report.picture, names: [...roles, ...groups], line: managerLine(standing) };
}

function managerLine({ portier, data }: Standing): readonly LineOf[] {
  const { people } = portier.schema;
  const [key] = people?.table.key ?? [];
  if (people?.manager === undefined || key === undefined) return [];
  const rows = data.tables.get(people.table.name) ?? [];
  const { name: managerField } = people.manager;
  const nameOf = (row: Row) => String(people.name === undefined ? row[key.name] : row[people.name.name]);
  const below = groupBy(rows, (row) => String(row[managerField] ?? ""));
  const known = new Set(rows.map((row) => String(row[key.name])));
  const told = new Set<string>();
  const line = (row: Row): LineOf[] => {
    const id = String(row[key.name]);
    // Lines that lead in a circle are told once.
    if (told.has(id)) return [];
    told.add(id);
    return [{ id, name: nameOf(row), below: (below.get(id) ?? []).flatMap(line) }];
  };
  const tops = rows.filter((row) => !known.has(String(row[managerField] ?? "")));
  return [...tops.flatMap(line), ...rows.flatMap(line)];
}
