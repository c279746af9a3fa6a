import type { Table } from "../../schema/schema.js";
import { postgres } from "../postgres.js";
import { sourceName } from "../scope.js";
import { definerFunction, dollars, literal, mark, plain, qualified, type Schemas } from "./ddl.js";
import { dropReader } from "./reader.js";
import { policyNames } from "./row-policy.js";

/** Takes away what an earlier run made, and nothing else. What others have made of it stands in the way: then nothing changes. */
export function cleared(schemas: Schemas): string {
  const { seen, inside, overlay } = schemas;
  const isOurs = isOurPolicy(schemas);
  const ours = `(${literal(seen)}, ${literal(overlay.seen)})`;
  return `do ${dollars(`declare
  made record;
begin
  for made in
    select format('drop view %s', c.oid::regclass) as statement, 1 as turn
    from pg_class c join pg_namespace n on n.oid = relnamespace
    where relkind = 'v' and nspname in ${ours} and obj_description(c.oid, 'pg_class') like ${literal(`${mark}%`)}
    union all select format('drop view %s', c.oid::regclass), case when relname = 'subject' then 4 else 2 end
    from pg_class c join pg_namespace n on n.oid = relnamespace where relkind = 'v' and nspname = ${literal(inside)}
    union all select format('drop policy %I on %s', polname, polrelid::regclass), 0 from pg_policy where ${isOurs}
    union all select format('revoke select on %s from %I', polrelid::regclass, rolname), 0
    from pg_policy, pg_roles where ${isOurs} and pg_roles.oid = any (polroles)
    union all select format('drop function %s', p.oid::regprocedure), case when prorettype in (select reltype from pg_class where relnamespace = n.oid) then 3 else 5 end
    from pg_proc p join pg_namespace n on n.oid = pronamespace
    where nspname = ${literal(inside)} or nspname = ${literal(seen)} and proname in ('set_person', 'require_version', 'confirm')
    order by turn
  loop
    execute made.statement;
  end loop;
  drop table if exists ${qualified(inside, "notes")}, ${qualified(inside, "gates")};
end`)}`;
}

function isOurPolicy(schemas: Schemas): string {
  return `polname in (${Object.values(policyNames(schemas)).map(literal).join(", ")})`;
}

/** Whoever makes the views lends them their rights: that must be the owner of the tables, and nobody greater. */
export function owned(tables: readonly Table[], schemas: Schemas): string {
  const names = tables.map((table) => literal(sourceName(postgres, table, schemas.tables))).join(", ");
  return `do ${dollars(`declare
  foreign_table regclass;
begin
  select oid into foreign_table from pg_class
  where oid = any (array[${names}]::regclass[]) and relowner <> (select oid from pg_roles where rolname = current_user) limit 1;
  if found then
    raise exception using message = format('%s belongs to somebody else', foreign_table),
      hint = 'run this as the owner of the tables: set role OWNER';
  end if;
end`)}`;
}

/** Closes the tables, and keeps what rights there were. */
export function closed(tables: readonly Table[], schemas: Schemas): string[] {
  const { inside } = schemas;
  const revoked = qualified(inside, "revoked");
  const names = tables.map((table) => literal(sourceName(postgres, table, schemas.tables)));
  return [
    `create table if not exists ${revoked} (
  id bigint generated always as identity primary key, closed regclass not null, given text not null
)`,
    `do ${dollars(`declare
  part regclass;
  held record;
begin
  for part in
    with recursive parts as (
      select unnest(array[${names.join(", ")}]::regclass[]) as oid
      union select inhrelid::regclass from pg_inherits join parts on inhparent = parts.oid
    ) select oid from parts
  loop
    if not (select relrowsecurity from pg_class where oid = part) then
      insert into ${revoked} (closed, given) values (part, format('alter table %s disable row level security', part));
      execute format('alter table %s enable row level security', part);
    end if;
    for held in
      select case when grantee = 0 then 'public' else grantee::regrole::text end as grantee, privilege_type, is_grantable
      from pg_class, aclexplode(relacl) where oid = part and grantee <> relowner
    loop
      insert into ${revoked} (closed, given) values (part, format('grant %s on %s to %s%s', held.privilege_type, part, held.grantee,
        case when held.is_grantable then ' with grant option' else '' end));
      execute format('revoke %s on %s from %s cascade', held.privilege_type, part, held.grantee);
    end loop;
    for held in
      select attname, case when grantee = 0 then 'public' else grantee::regrole::text end as grantee, privilege_type
      from pg_attribute join pg_class on pg_class.oid = attrelid, aclexplode(attacl)
      where attrelid = part and not attisdropped and grantee <> relowner
    loop
      insert into ${revoked} (closed, given) values (part,
        format('grant %s (%I) on %s to %s', held.privilege_type, held.attname, part, held.grantee));
      execute format('revoke %s (%I) on %s from %s cascade', held.privilege_type, held.attname, part, held.grantee);
    end loop;
  end loop;
end`)}`,
  ];
}

/** Views and functions that read these tables with the rights of an owner see past the rules: whoever runs this is told. */
export function otherDoors(tables: readonly Table[], schemas: Schemas): string {
  const names = tables.map((table) => literal(sourceName(postgres, table, schemas.tables))).join(", ");
  const ours = ownSchemas(schemas);
  return `do ${dollars(`declare
  door text;
begin
  for door in
    select distinct format('the view %s', v.oid::regclass)
    from pg_depend d join pg_rewrite r on r.oid = d.objid join pg_class v on v.oid = r.ev_class
      join pg_namespace n on n.oid = v.relnamespace
    where d.classid = 'pg_rewrite'::regclass and d.refclassid = 'pg_class'::regclass
      and d.refobjid = any (array[${names}]::regclass[]) and v.relkind in ('v', 'm') and nspname not in ${ours}
      and not coalesce(v.reloptions && array['security_invoker=true', 'security_invoker=on'], false)
      and exists (select 1 from aclexplode(v.relacl) where grantee <> v.relowner)
    union all
    select distinct format('the function %s', p.oid::regprocedure)
    from pg_proc p join pg_namespace n on n.oid = pronamespace, pg_class t
    where prosecdef and nspname not in ${ours} and prorettype <> 'trigger'::regtype
      and exists (select 1 from aclexplode(coalesce(proacl, acldefault('f', proowner))) where grantee <> proowner)
      and t.oid = any (array[${names}]::regclass[]) and position(relname in prosrc) > 0
    union all
    select format('the policy %s of %s', polname, polrelid::regclass) from pg_policy
    where polrelid = any (array[${names}]::regclass[]) and not ${isOurPolicy(schemas)}
    order by 1
  loop
    raise warning '% lets past these rules whoever may use it', door;
  end loop;
  if exists (select 1 from pg_namespace, aclexplode(nspacl) where nspname = ${literal(schemas.tables)} and grantee = 0 and privilege_type = 'CREATE') then
    raise warning 'anybody may make things in the schema of these tables, also what triggers take for their own'
      using hint = ${literal(`revoke create on schema ${postgres.quoteName(schemas.tables)} from public`)};
  end if;
end`)}`;
}

/** Who may use the views is kept, so that a later run gives it to them again. */
export function admission(schemas: Schemas): string[] {
  const { seen, inside } = schemas;
  const quote = postgres.quoteName;
  const admitted = qualified(inside, "admitted");
  const schema = plain(quote(seen));
  const asked = ["me()", "rls_active(regclass)"].map((head) => {
    const grant = `grant execute on function ${plain(quote(inside))}.${head} to %I`;
    return `  execute format(${literal(grant)}, role);`;
  });
  const admit = definerFunction(
    `${qualified(inside, "admit")}(role name, sets_person boolean default false) returns void`,
    `declare
  part text;
begin
  insert into ${admitted} values (role, sets_person)
    on conflict on constraint admitted_pkey do update set sets_person = excluded.sets_person;
  execute format(${literal(`grant usage on schema ${schema} to %I`)}, role);
  execute format(${literal(`grant select, insert, update, delete on all tables in schema ${schema} to %I`)}, role);
  execute format(${literal(`grant execute on function ${plain(qualified(seen, "confirm"))}(text[]) to %I`)}, role);
${asked.join("\n")}
  execute format(${literal(`grant execute on function ${plain(qualified(seen, "require_version"))}(bigint, interval) to %I`)}, role);
  execute format(${literal(`%s execute on function ${plain(qualified(seen, "set_person"))}(text, jsonb) %s %I`)},
    case when sets_person then 'grant' else 'revoke' end, case when sets_person then 'to' else 'from' end, role);
${schemas.hasOverlay ? overlayRights(schemas) : ""}
end`,
  );
  return [
    `create table if not exists ${admitted} (role name constraint admitted_pkey primary key, sets_person boolean not null)`,
    admit,
    nobody(schemas),
    // Said by a block, which prints nothing.
    `do ${dollars(`begin
  perform ${qualified(inside, "admit")}(role, sets_person) from ${admitted} where exists (select 1 from pg_roles where rolname = role);
end`)}`,
  ];
}

/** Whoever may set the current user uses the overlay, and what its views ask. */
function overlayRights({ inside, overlay }: Schemas): string {
  const schema = plain(postgres.quoteName(overlay.seen));
  return `  for part in
    select ${literal(`usage on schema ${schema}`)}
    union all select ${literal(`select, insert, update, delete on all tables in schema ${schema}`)}
    union all select format('execute on function %s', oid::regprocedure) from pg_proc
      where pronamespace = ${literal(postgres.quoteName(inside))}::regnamespace and starts_with(proname, 'plan')
  loop
    execute format('%s %s %s %I', case when sets_person then 'grant' else 'revoke' end, part,
      case when sets_person then 'to' else 'from' end, role);
  end loop;`;
}

/** Takes away what rights to new things somebody has by default. */
function nobody(schemas: Schemas): string {
  const ours = ownSchemas(schemas);
  const readers = [schemas.reader, ...(schemas.hasOverlay ? [schemas.overlay.reader] : [])];
  const kept = readers.map((reader) => `, ${literal(postgres.quoteName(reader))}::regrole`).join("");
  return `do ${dollars(`declare
  given text;
begin
  for given in
    select format('revoke all on function %s from %s', p.oid::regprocedure, case when grantee = 0 then 'public' else grantee::regrole::text end)
    from pg_proc p join pg_namespace n on n.oid = pronamespace, aclexplode(coalesce(proacl, acldefault('f', proowner)))
    where nspname in ${ours} and grantee <> proowner
    union all
    select format('revoke all on table %s from %s', c.oid::regclass, case when grantee = 0 then 'public' else grantee::regrole::text end)
    from pg_class c join pg_namespace n on n.oid = relnamespace, aclexplode(relacl)
    where nspname in ${ours} and grantee not in (relowner${kept})
    union all
    select format('revoke all on schema %I from %s', nspname, case when grantee = 0 then 'public' else grantee::regrole::text end)
    from pg_namespace, aclexplode(nspacl) where nspname in ${ours} and grantee not in (nspowner${kept})
  loop
    execute given;
  end loop;
end`)}`;
}

/** Takes away where the overlay was. */
export function withoutOverlay({ seen, overlay }: Schemas): string[] {
  const quote = postgres.quoteName;
  return [
    `drop schema if exists ${quote(overlay.seen)}`,
    `do ${dollars(`begin
  revoke all on schema ${quote(seen)} from ${quote(overlay.reader)};
exception when undefined_object or invalid_schema_name then null;
end`)}`,
    dropReader(overlay.reader),
  ];
}

function ownSchemas({ seen, inside, overlay }: Schemas): string {
  return `(${[seen, inside, overlay.seen].map(literal).join(", ")})`;
}

/** Takes everything away; rights come back in the order in which they were taken. */
export function removal(schemas: Schemas): string[] {
  const { seen, inside, reader } = schemas;
  const quote = postgres.quoteName;
  return [
    "begin",
    "set local search_path = pg_catalog, pg_temp",
    `do ${dollars(`declare
  kept text;
begin
  for kept in select given from ${qualified(inside, "revoked")} order by id
  loop
    begin
      execute kept;
    exception when undefined_object or undefined_table or undefined_column then
      raise warning 'not given back, as it is gone: %', kept;
    end;
  end loop;
end`)}`,
    cleared(schemas),
    `drop table ${["secret", "logins", "revoked", "admitted"].map((name) => qualified(inside, name)).join(", ")}`,
    `drop schema ${quote(seen)}, ${quote(inside)}`,
    dropReader(reader),
    ...withoutOverlay(schemas),
    "commit",
  ];
}
