import type { LineTest } from "../conditions/expression.js";
import type { Field } from "../schema/schema.js";
import { allOf, type Fragment, join, raw, sql } from "./fragment.js";
import type { Place } from "./place.js";
import { column, type Scope, tableAs } from "./scope.js";
import type { Joins } from "./value.js";

/**
 * Whether the person at hand has somebody above (below) them of whom `met` is true; `person` is the place of that somebody.
 * Everybody is found once per statement: from those who are meant, along the line to whom they belong. Nobody belongs to
 * themselves, not even in a circle.
 */
export function isAlongLine(test: LineTest, met: Fragment, person: Place, joins: Joins, scope: Scope): Fragment {
  const { direction, key, line } = test;
  const people = tableAs(scope, person);
  const ignore = column(scope, person, key);
  if (direction === "below") {
    const manager = column(scope, person, line);
    const isThere = sql`${manager} is not null`;
    return walk(test, { person: manager, ignore, from: people, where: allOf([isThere, met]), level: 1 }, joins, scope);
  }
  const managed = joins.place(person.table);
  const isManaged = scope.dialect.compare("=", key.type, column(scope, managed, line), ignore);
  const from = sql`${people} join ${tableAs(scope, managed)} on ${isManaged}`;
  return walk(test, { person: column(scope, managed, key), ignore, from, where: met, level: 1 }, joins, scope);
}

/** Whether the line of the person at hand comes to somebody whose manager cannot be read; undefined where none can. */
export function hasOpenEnd(test: LineTest, person: Place, joins: Joins, scope: Scope): Fragment | undefined {
  const { direction, line, key } = test;
  const manager = column(scope, person, line);
  const fits = scope.dialect.fits(line.type, manager);
  if (fits === undefined) return undefined;
  const from = tableAs(scope, person);
  const where = sql`(${manager} is not null and not ${fits})`;
  // Somebody whose manager cannot be read could be below anybody.
  if (direction === "below") return sql`exists (select 1 from ${from} where ${where})`;
  return walk(test, { person: column(scope, person, key), ignore: undefined, from, where, level: 0 }, joins, scope);
}

/** Where a way along the line begins. */
interface Start {
  readonly person: Fragment;
  /** From whom it sets out, who does not count; undefined where everybody does. */
  readonly ignore: Fragment | undefined;
  readonly from: Fragment;
  readonly where: Fragment;
  readonly level: number;
}

/** Whether the person at hand is on a way along the line. */
function walk({ direction, levels, line, key }: LineTest, start: Start, joins: Joins, scope: Scope): Fragment {
  const { dialect } = scope;
  const table = scope.residual.plan.of(line.table).table;
  const next = joins.place(table);
  const quoted = (name: string) => raw(dialect.quoteName(name));
  const way = quoted(`${next.alias}w`);
  const of = (name: string) => sql`${way}.${quoted(name)}`;
  const [from, to] = direction === "above" ? [line, key] : [key, line];
  const isNext = dialect.compare("=", key.type, column(scope, next, from), of("person"));
  const found = column(scope, next, to as Field);
  const isCounted = levels !== undefined;
  const hasIgnore = start.ignore !== undefined;
  const columns = [quoted("person"), ...(hasIgnore ? [quoted("ignore")] : []), ...(isCounted ? [quoted("level")] : [])];
  const first = [
    start.person,
    ...(start.ignore === undefined ? [] : [start.ignore]),
    ...(isCounted ? [raw(String(start.level))] : []),
  ];
  const further = [found, ...(hasIgnore ? [of("ignore")] : []), ...(isCounted ? [sql`${of("level")} + 1`] : [])];
  const demands = [
    ...(direction === "below" ? [sql`${found} is not null`] : []),
    // A way that sets out at level 0 looks one step less far.
    ...(levels === undefined ? [] : [sql`${of("level")} < ${raw(String(levels - 1 + start.level))}`]),
  ];
  const begin = sql`select ${join(first, ", ")} from ${start.from} where ${start.where}`;
  const step = sql`select ${join(further, ", ")} from ${tableAs(scope, next)} join ${way} on ${isNext} where ${allOf(demands)}`;
  const isOther = hasIgnore ? sql` where ${dialect.compare("<>", key.type, of("person"), of("ignore"))}` : [];
  const own = column(scope, scope.record, key);
  return sql`${own} in (with recursive ${way} (${join(columns, ", ")}) as (${begin} union ${step}) select ${of("person")} from ${way}${isOther})`;
}
