import { literal, ownFunction, qualified, type Schemas } from "./ddl.js";

// Who is believed about the current user: what was found out about them stands in settings, which anybody can change.

/** The transaction of this connection: what was set in another one counts for nothing. */
export const stampOfNow =
  "pg_catalog.concat(pg_catalog.pg_backend_pid(), ' ', extract(epoch from pg_catalog.now()), ' ')";

/** The function by which an application sets the current user. */
export function setPersonOf({ seen }: Schemas): string {
  return `${literal(`${qualified(seen, "set_person")}(pg_catalog.text, pg_catalog.jsonb)`)}::pg_catalog.regprocedure`;
}

/**
 * `seal(setting, said)`: the 64 characters with which a setting must begin. Who may set the current user may be anybody, and needs no proof: for their
 * logins it is the stamp alone. For others, whom a function of the application named, it is sealed with a secret of the
 * database.
 */
export function sealFunction(schemas: Schemas): string {
  const { inside } = schemas;
  // Nested, as a hash over key and message alone could be lengthened.
  const inner = `sha256(bytes || convert_to(concat(setting, ' ', ${stampOfNow}, said), 'UTF8'))`;
  return ownFunction(
    `${qualified(inside, "seal")}(setting text, said text) returns text`,
    `begin
  if has_function_privilege(session_user, ${setPersonOf(schemas)}, 'execute') then return rpad(${stampOfNow}, 64); end if;
  return (select encode(sha256(bytes || ${inner}), 'hex') from ${qualified(inside, "secret")});
end`,
    "stable",
  );
}

/** Lines that stop where the setting in `sealed` was made in another way. */
export function opened(setting: string, { inside, seen }: Schemas): string {
  return `if left(sealed, 64) is distinct from ${qualified(inside, "seal")}('${setting}', substr(sealed, 65)) then
    raise exception using errcode = 'insufficient_privilege',
      message = ${literal(`the current user was not set by ${seen}.set_person in this transaction`)};
  end if;`;
}
