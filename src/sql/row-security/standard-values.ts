import type { SessionOperand } from "../../conditions/expression.js";
import type { Scalar } from "../../schema/scalar.js";
import { type DefaultSource, type Field, isOwn, lastOf, singleKey } from "../../schema/schema.js";
import { scalarTypes } from "../../schema/types/scalars.js";
import { postgres } from "../postgres.js";
import { type FactWriter, literal, qualified, written } from "./ddl.js";
import type { Writing } from "./gates.js";

const quote = postgres.quoteName;

/** What a view's columns hold when nothing is given: the document's defaults, and the current user as the owner. */
export function defaults(view: string, writing: Writing): string[] {
  const { schemas, table } = writing;
  const asked: FactWriter = ({ fact }) => `(${qualified(schemas.inside, "me")}()).${quote(fact)}`;
  return table.fields.filter(isOwn).flatMap((field) => {
    const value = standardValue(field, writing, asked);
    return value === "null" ? [] : [`alter view ${view} alter column ${quote(field.column)} set default ${value}`];
  });
}

/** What a field holds when nothing is given, as an expression; `facts` says where the current user is found. */
export function standardValue(field: Field, { table, schema, subject }: Writing, facts: FactWriter): string {
  const { people } = schema;
  const key = people && singleKey(people.table);
  const isOwner = table.owner?.length === 1 && table.owner[0] === field;
  if (isOwner && people !== undefined && key !== undefined) {
    const me = written(subject.value({ kind: "me", type: key.type, path: [key] }), facts);
    if (field.type.target === people.table.name) return me;
    if (field.type.element?.target === people.table.name) return `array[${me}]`;
  }
  if (field.defaultFrom !== undefined) {
    const asked = askedFor(field.defaultFrom);
    return asStored(field, written(subject.value(asked), facts), asked.type.zone);
  }
  if (field.default === null || field.default === undefined) return "null";
  if (field.type.base === "json") return literal(JSON.stringify(field.default));
  return asStored(
    field,
    written(postgres.constant(field.type, field.type.canonical(field.default) as Scalar)),
    undefined,
  );
}

function askedFor(from: DefaultSource): SessionOperand {
  if (from.kind === "me") return { kind: "me", type: lastOf(from.path).type, path: from.path };
  return from.kind === "now"
    ? { kind: "request", type: scalarTypes.timestamp, name: "now" }
    : { kind: "today", type: scalarTypes.date };
}

/** A value as the field's column holds it: with its zone or without, whichever way it comes. */
function asStored({ type: { zone } }: Field, value: string, from: string | undefined): string {
  return zone === from ? value : `(${value} at time zone ${literal(zone ?? from ?? "")})`;
}
