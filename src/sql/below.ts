import type { Field } from "../schema/schema.js";
import { type Fragment, raw, sql } from "./fragment.js";
import type { Place } from "./place.js";
import { column, type Scope, tableAs } from "./scope.js";
import type { Part } from "./value.js";

/**
 * Whether a person, or one of a list, is below another, at any distance. Everybody below is found once per statement,
 * down the manager line (`line`, of `person`); nobody is below themselves, not even in a circle.
 */
export function isBelow(part: Part, boss: Part, person: Place, line: Field, scope: Scope): Fragment {
  const [key] = person.table.key;
  if (key === undefined) return raw("false");
  const { dialect } = scope;
  const first = dialect.compare("=", key.type, column(scope, person, line), boss.sql);
  return isAmongDown(part, first, person, line, scope, (found) => dialect.compare("<>", key.type, found, boss.sql));
}

/** Whether the manager line of a person, or of one of a list, comes to a manager that cannot be read; undefined where none can. */
export function hasOpenLine(part: Part, person: Place, line: Field, scope: Scope): Fragment | undefined {
  const manager = column(scope, person, line);
  const fits = scope.dialect.fits(line.type, manager);
  if (fits === undefined) return undefined;
  const first = sql`(${manager} is not null and not ${fits})`;
  return isAmongDown(part, first, person, line, scope, () => raw("true"));
}

/** Whether it is among those whom `first` finds, and those below them, as far as `isMeant`. */
function isAmongDown(
  part: Part,
  first: Fragment,
  person: Place,
  line: Field,
  scope: Scope,
  isMeant: (found: Fragment) => Fragment,
): Fragment {
  const [key] = person.table.key;
  if (key === undefined) return raw("false");
  const { dialect } = scope;
  const name = (written: string) => raw(dialect.quoteName(written));
  const down = name(`${person.alias}b`);
  const found = sql`${down}.${name("person")}`;
  const keyColumn = column(scope, person, key);
  const staff = tableAs(scope, person);
  const isNext = dialect.compare("=", key.type, column(scope, person, line), found);
  const start = sql`select ${keyColumn} from ${staff} where ${first}`;
  const next = sql`select ${keyColumn} from ${staff} join ${down} on ${isNext}`;
  const recursion = sql`with recursive ${down} (${name("person")}) as (${start} union ${next})`;
  const everybody = sql`${recursion} select ${name("person")} from ${down} where ${isMeant(found)}`;
  if (part.type.element === undefined) return sql`${part.sql} in (${everybody})`;
  const each = name(`${person.alias}e`);
  const isHeld = dialect.contains(part.type, part.stored, sql`${each}.${name("person")}`);
  return sql`exists (select 1 from (${everybody}) ${each} where ${isHeld})`;
}
