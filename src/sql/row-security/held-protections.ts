import { True } from "../../conditions/truth.js";
import { protectionPrefix } from "../../rules/protections.js";
import type { Ruleset } from "../../rules/ruleset.js";
import { type Field, isOwn, type Table } from "../../schema/schema.js";
import { timestamp } from "../../schema/types/timestamp.js";
import { type Fragment, join, raw, sql } from "../fragment.js";
import { postgres } from "../postgres.js";
import { sourceName } from "../scope.js";
import { definerFunction, inTrigger, literal, qualified, type Schemas } from "./ddl.js";
import type { SubjectView } from "./subject-view.js";

/**
 * The functions by which the triggers of a grid find out what is protected as data: that changes while the rules stay, so it is
 * looked up at each change.
 */
export function protectionFunctions({ schema }: Ruleset, schemas: Schemas): string[] {
  const { kept } = schema;
  if (kept?.protections === undefined) return [];
  const at = (name: string) => qualified(schemas.inside, name);
  const source = sourceName(postgres, kept.protections, schemas.tables);
  return [
    definerFunction(
      `${at("column_number")}(letters text) returns int`,
      `begin
  return (select sum((ascii(letter) - 64) * (26 ^ (length(letters) - place))::int) from regexp_split_to_table(letters, '') with ordinality as l(letter, place));
end`,
      { volatility: "immutable" },
    ),
    // A1 notation as in OpenFormula; null is an open end.
    definerFunction(
      `${at("cells_of")}(ranges text[]) returns table (n int, l int, r int, t bigint, b bigint)`,
      `declare
  one text;
  found text[];
  c1 int; c2 int; r1 bigint; r2 bigint;
  is_wrong boolean;
begin
  n := 0;
  foreach one in array coalesce(ranges, '{}') loop
    n := n + 1;
    found := regexp_match(upper(replace(one, '$', '')), '^\\s*([A-Z]{1,3})?\\s*([1-9][0-9]{0,9})?\\s*(:)?\\s*([A-Z]{1,3})?\\s*([1-9][0-9]{0,9})?\\s*$');
    c1 := ${at("column_number")}(found[1]); r1 := found[2]::bigint;
    c2 := ${at("column_number")}(found[4]); r2 := found[5]::bigint;
    l := coalesce(least(c1, c2), 1); r := greatest(c1, c2);
    t := coalesce(least(r1, r2), 1); b := greatest(r1, r2);
    if found is null or (c1 is null and r1 is null) then is_wrong := true;
    elsif found[3] is null then is_wrong := c1 is null or r1 is null or c2 is not null or r2 is not null;
    elsif c2 is null and r2 is null then is_wrong := c1 is null or r1 is not null; r := null; b := null;
    else
      is_wrong := (c1 is null) <> (c2 is null) or ((r1 is null) <> (r2 is null) and (c1 is null or r1 is null));
      if r1 is null or r2 is null then b := null; end if;
    end if;
    if is_wrong then perform ${at("fault")}(format('a protection cannot be read: %L is not a cell range', one)); end if;
    return next;
  end loop;
end`,
      { volatility: "immutable" },
    ),
    // The rows of a column that are among some ranges, without the excepted.
    definerFunction(
      `${at("rows_of")}(ranges text[], excepted text[], of_column int, of_range int) returns int8multirange`,
      `begin
  return (select coalesce(range_agg(int8range(t, b, '[]')), '{}') from ${at("cells_of")}(ranges)
    where of_column between l and coalesce(r, of_column) and n = coalesce(of_range, n))
    - (select coalesce(range_agg(int8range(t, b, '[]')), '{}') from ${at("cells_of")}(excepted)
    where of_column between l and coalesce(r, of_column));
end`,
      { volatility: "immutable" },
    ),
    // The rows that a range holds as rows: those of its cells, where it ends.
    definerFunction(
      `${at("held_by")}(ranges text[], excepted text[], of_range int, columns int) returns int8multirange`,
      `begin
  return (select coalesce(range_agg(part), '{}') from ${at("cells_of")}(ranges) c,
    generate_series(c.l, least(coalesce(c.r, columns), columns)) of_column,
    unnest(${at("rows_of")}(ranges, excepted, of_column, of_range)) part
    where c.n = of_range and c.b is not null);
end`,
      { volatility: "immutable" },
    ),
    definerFunction(
      `${at("is_held")}(held int8multirange, place bigint) returns boolean`,
      `begin
  -- A place that is not known is in every range.
  return not isempty(held) and (place is null or place < 1 or held @> place);
end`,
      { volatility: "immutable" },
    ),
    // What is protected of a change, but for those whom it names: of columns, of the row's place (0), of the row (-1).
    definerFunction(
      `${at("protections")}(what text, names text[], instant timestamptz, columns int, given int[], is_moved boolean, is_act boolean, places bigint[])
  returns table (of_column int, effect text, rule text, note text)`,
      `begin
  return query with p as (
    select x.* from ${source} x
    where x.of_table = what and (x.starts_at is null or x.starts_at <= instant) and (x.ends_at is null or instant < x.ends_at)
      and not array(select regexp_replace(btrim(one), '^person\\s+', 'person ') from unnest(x.kept_by) one) && names
      and exists (select from ${at("cells_of")}(x.ranges) c, unnest(places) place
        where place is null or place < 1 or place between c.t and coalesce(c.b, place))
  )
  select f.of_column, p.effect::text, ${literal("")} || p.of_table || ${literal(`/${protectionPrefix}`)} || p.id, p.note
  from p, lateral (
    select g as of_column from unnest(given) g
      where exists (select from unnest(places) place where ${at("is_held")}(${at("rows_of")}(p.ranges, p.except_ranges, g, null), place))
    union all
    select case when is_act then -1 else 0 end from ${at("cells_of")}(p.ranges) c,
      lateral (select ${at("held_by")}(p.ranges, p.except_ranges, c.n, columns) as held) h
      where (is_act or is_moved) and c.b is not null
        and exists (select from unnest(places) place where ${at("is_held")}(h.held, place))
        and (is_act or not (select bool_and((place >= 1 and h.held @> place) is true) from unnest(places) place))
  ) f;
end`,
      { volatility: "stable", settings: "rows 1" },
    ),
  ];
}

export interface ProtectedChange {
  /** The places of the row, before and after, as expressions. */
  readonly places: readonly string[];
  /** Whether the row itself comes or goes. */
  readonly isAct: boolean;
}

/** What a trigger of a protected grid declares besides. */
export const protectionDeclarations = "\n  _protected record;\n  _held text[];\n  _said jsonb := '{}';";

/** Lines that collect what is refused, or to be confirmed, by what is protected as data. */
export function protectionLines(
  { schema, groups }: Ruleset,
  table: Table,
  subject: SubjectView,
  schemas: Schemas,
  { places, isAct }: ProtectedChange,
): string {
  const { grid } = table;
  if (grid === undefined || !grid.protections) return "";
  const columns = grid.columns.filter(isOwn);
  const given = columns.map(
    (field) => `case when ${literal(field.name)} = any (_given) then ${grid.columns.indexOf(field) + 1} end`,
  );
  const inside = (name: string) => qualified(schemas.inside, name);
  const isMoved = isAct ? "false" : `${literal(grid.position.name)} = any (_given)`;
  const numbers =
    isAct && places.length === 0 ? "'{}'::int[]" : `array_remove(array[${given.join(", ")}]::int[], null)`;
  const now = subject.value({ kind: "request", type: timestamp, name: "now" });
  const call = sql`${raw(inside("protections"))}(${raw(literal(table.name))}, ${namesHeld(schema, groups, subject)}, ${now}, ${raw(String(grid.columns.length))}, ${raw(numbers)}, ${raw(isMoved)}, ${raw(String(isAct))}, array[${raw(places.join(", "))}]::bigint[])`;
  const names = `(array[${grid.columns.map(({ name }) => literal(name)).join(", ")}])[_protected.of_column]`;
  const field = `case _protected.of_column when -1 then '' when 0 then ${literal(grid.position.name)} else ${names} end`;
  return `for _protected in select of_protection.* from ${inTrigger(call)} of_protection loop
  if _protected.effect = 'confirm' then
    _asked := _asked || _protected.rule;
    _said := _said || jsonb_build_object(_protected.rule, coalesce(_protected.note, _protected.rule));
  else
    _held := array[${field}]::text[];
    if not _held <@ _refused then _refused := _refused || _held; end if;
    if _protected.note is not null then _notes := _notes || _protected.note; end if;
  end if;
end loop;`;
}

/** The names of whom the current user is for certain: roles, groups, and themselves. */
function namesHeld(schema: Ruleset["schema"], groups: Ruleset["groups"], subject: SubjectView): Fragment {
  const roles = [...schema.roles.values()].filter(({ scope }) => scope === undefined).map(({ name }) => name);
  const held = [...roles, ...groups.keys()].map(
    (name) => sql`case when ${subject.membership(name, [True])} then ${raw(literal(name))} end`,
  );
  const key = schema.people?.table.key[0] as Field;
  const me = subject.value({ kind: "me", type: key.type, path: [key] });
  return sql`array_remove(array[${join([...held, sql`'person ' || cast(${me} as text)`], ", ")}]::text[], null)`;
}
