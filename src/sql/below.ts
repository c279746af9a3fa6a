import type { Scalar } from "../schema/scalar.js";
import type { Field } from "../schema/schema.js";
import { type Fragment, raw, sql } from "./fragment.js";
import { column, type Place, type Scope, tableAs } from "./scope.js";
import type { Part } from "./value.js";

/**
 * Whether a person, or one of a list, is below another, at any distance. Everybody below is found once per statement,
 * down the manager line (`line`, of `person`); nobody is below themselves, not even in a circle.
 */
export function isBelow(part: Part, boss: Scalar, person: Place, line: Field, scope: Scope): Fragment {
  const { dialect } = scope;
  const name = (written: string) => raw(dialect.quoteName(written));
  const [key] = person.table.key;
  if (key === undefined) return raw("false");
  const below = name(`${person.alias}b`);
  const found = sql`${below}.${name("person")}`;
  const top = dialect.constant(key.type, boss);
  const keyColumn = column(scope, person, key);
  const manager = column(scope, person, line);
  const staff = tableAs(scope, person);
  const equals = (left: Fragment, right: Fragment) => dialect.compare("=", key.type, left, right);
  const first = sql`select ${keyColumn} from ${staff} where ${equals(manager, top)}`;
  const next = sql`select ${keyColumn} from ${staff} join ${below} on ${equals(manager, found)}`;
  const recursion = sql`with recursive ${below} (${name("person")}) as (${first} union ${next})`;
  const everybody = sql`${recursion} select ${name("person")} from ${below} where ${dialect.compare("<>", key.type, found, top)}`;
  if (part.type.element === undefined) return sql`${part.sql} in (${everybody})`;
  const each = name(`${person.alias}e`);
  const isHeld = dialect.contains(part.type, part.stored, sql`${each}.${name("person")}`);
  return sql`exists (select 1 from (${everybody}) ${each} where ${isHeld})`;
}
