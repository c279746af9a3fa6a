import { postgres } from "../postgres.js";
import { block, common, literal, textsLiteral } from "./ddl.js";
import type { Writing } from "./gates.js";

const quote = postgres.quoteName;

/**
 * Who holds what is not changed through a view: no trigger can tell who may assign, what excludes each other and who is
 * the last. It is given by administration, which can.
 */
export function refusedRoles(fields: string): string[] {
  return [
    `_refused := _refused || ${fields};`,
    `_notes := _notes || ${literal("This changes who holds a role: that is for administration.")}::text;`,
  ];
}

export function rolesKept({ bearing, schemas }: Writing): string[] {
  if (bearing === undefined) return [];
  const fields = [...bearing].map(({ name }) => name);
  return [block(`if _given && ${textsLiteral(fields)} then`, refusedRoles(common(schemas, fields)), "end if;")];
}

/** A new person holds nothing by themselves; a link table's record is a role that somebody is given. */
export function noNewRoles({ bearing, table, schema }: Writing): string[] {
  if (bearing === undefined) return [];
  const { people } = schema;
  const naming = (people?.roles ?? []).flatMap((source) => (source.kind === "field" ? [source.field] : []));
  const inGroups = [...bearing].some(
    (field) => !naming.includes(field) && field !== people?.active && !table.key.includes(field),
  );
  if (table !== people?.table || inGroups) return refusedRoles("''::text");
  const given = naming.map((field) =>
    field.type.element === undefined
      ? `_after.${quote(field.column)} is not null`
      : `cardinality(_after.${quote(field.column)}) > 0`,
  );
  return given.length === 0 ? [] : [block(`if ${given.join(" or ")} then`, refusedRoles("''::text"), "end if;")];
}
