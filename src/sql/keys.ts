import type { Operand } from "../conditions/expression.js";
import { splitAddress } from "../schema/address.js";
import { isStorable, type Scalar } from "../schema/scalar.js";
import type { FieldType } from "../schema/types/field-type.js";
import { listElements } from "../schema/types/list.js";
import type { Dialect } from "./dialect.js";
import { allOf, anyOf, type Fragment, raw, sql } from "./fragment.js";
import { constantPart, type Part } from "./value.js";

/** An address that is written out, in as many parts as what it is compared with; undefined for what is no such address. */
export function inAsManyParts(
  parts: readonly Part[],
  others: readonly Part[],
  operand: Operand,
  dialect: Dialect,
): readonly Part[] | undefined {
  if (parts.length >= others.length) return parts;
  return operand.kind === "constant" && operand.value !== null ? keyParts(others, operand.value, dialect) : undefined;
}

/** The keys that the current user has, or has roles on; undefined where that cannot be read. */
export function keysOf(operand: Operand): readonly Scalar[] | undefined {
  if (operand.kind !== "constant") return undefined;
  const { type, value } = operand;
  if (value === null) return [];
  return type.element === undefined ? [value] : listElements(value);
}

/** Whether these parts are the key of a record on which the current user holds a role; of a list, whether any element is. */
export function isHeld([only]: readonly Part[], held: Fragment): Fragment {
  if (only === undefined) return raw("false");
  return only.type.element === undefined ? sql`${only.sql} = any (${held})` : sql`${only.stored} && ${held}`;
}

/** Whether these parts are the key of one of some records; of a list, whether any element is. */
export function isOneOf(parts: readonly Part[], keys: readonly Scalar[], dialect: Dialect): Fragment {
  const [only] = parts;
  if (only === undefined) return raw("false");
  const { element } = only.type;
  if (element !== undefined) {
    const known = keys.map((key) => keyPart(element, key, dialect)).filter((key) => key !== undefined);
    return anyOf(known.map((key) => dialect.contains(only.type, only.stored, key.sql)));
  }
  const known = keys.map((key) => keyParts(parts, key, dialect)).filter((key) => key !== undefined);
  if (parts.length === 1 && known.length > 1) {
    const constants = known.flatMap((key) => key.map((part) => part.sql));
    return dialect.among(only.type, only.sql, constants);
  }
  const equals = (key: readonly Part[]) =>
    allOf(parts.map((part, index) => dialect.compare("=", part.type, part.sql, (key[index] as Part).sql)));
  return anyOf(known.map(equals));
}

/** A key in as many parts as it is compared with; undefined for what no record of a database can have as its key. */
function keyParts(parts: readonly Part[], key: Scalar, dialect: Dialect): readonly Part[] | undefined {
  return addressParts(
    parts.map(({ type }) => type),
    key,
    dialect,
  );
}

/** A record's address as the values of its key's fields; undefined for what no record of a database can have as its key. */
export function addressParts(types: readonly FieldType[], key: Scalar, dialect: Dialect): readonly Part[] | undefined {
  const values = splitAddress(types, String(key));
  if (values === undefined || !values.every(isStorable)) return undefined;
  return values.map((value, index) => constantPart(types[index] as FieldType, value, dialect));
}

function keyPart(type: FieldType, key: Scalar, dialect: Dialect): Part | undefined {
  const [value] = splitAddress([type], String(key)) ?? [];
  return value === undefined || !isStorable(value) ? undefined : constantPart(type, value, dialect);
}
