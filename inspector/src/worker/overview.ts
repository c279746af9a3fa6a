import type { ActionName } from "portier";
import { columnLetters, keptRanges } from "portier/ranges";
import type { Standing } from "./project.js";
import type { Overview, TableShape } from "./protocol.js";

/** What there is to look at. */
export function overviewOf({ portier, document, data, viewers, trouble }: Standing): Overview {
  const tables = [...portier.schema.tables.values()].map((table): TableShape => {
    const ranged = new Set(keptRanges(portier, table.name).map(({ rule }) => rule));
    return {
      name: table.name,
      label: table.label,
      count: data.tables.get(table.name)?.length ?? 0,
      actions: ["list", "view", "create", "edit", "delete", ...(table.actions as readonly ActionName[])],
      fields: table.fields.map((field) => {
        const column = table.grid?.columns.indexOf(field) ?? -1;
        const { name, label, type, sensitive } = field;
        return { name, label, type: type.name, sensitive, column: column < 0 ? undefined : columnLetters(column + 1) };
      }),
      rules: Object.keys(document.tables[table.name]?.rules ?? {}).map((name) => {
        const address = `${table.name}/${name}`;
        return { address, cells: ranged.has(address) };
      }),
    };
  });
  return {
    tables,
    eyes: viewers.map(({ id, name, kind, roles }) => ({ id, name: kind === "visitor" ? "A visitor" : name, roles })),
    roles: [...portier.schema.roles.keys()],
    groups: Object.keys(document.groups ?? {}),
    trouble,
  };
}
