import { standsForType } from "./read-postgres.js";
import { splitScript } from "./split-script.js";

/** An embedded PostgreSQL. */
interface Runner {
  run(statement: string): Promise<unknown>;
}

/** What makes no table and changes none: data, owners, remarks, and what belongs to a server. */
const isOfNoConcern =
  /^(?:insert|update|delete|copy|select(?!.*\b(?:set_config|into)\b)|comment|lock|analyze|vacuum|reindex|cluster|begin|commit|rollback|start|end|security label|create (?:unlogged )?index|create trigger|create constraint trigger|create event trigger|create rule|create database|create tablespace|create publication|create subscription|create server|create user mapping|alter (?:database|role|user|system|publication|default privileges|event trigger|index)|refresh)\b|^alter .* owner to (?:"[^"]+"|\w+)$|^alter table .* (?:replica identity|(?:enable|disable) trigger|cluster on|attach partition)\b/is;

/** What a document is made of: when it does not run, that is said. */
const isOfConcern =
  /^(?:create (?:global |local )?(?:temp |temporary |unlogged |foreign )?table|create type|create domain|create schema|create (?:or replace )?(?:materialized )?view|create materialized view|create recursive view|create unique index|create policy|alter table|alter type|alter domain|grant)\b/i;

/** How often a statement is tried, each time with one thing more that it needs. */
const tries = 12;

/**
 * Runs a script for PostgreSQL as `pg_dump` writes it, for the tables that it makes: without its data, and with something
 * that stands for roles, schemas and types of extensions that are not here. Gives a sentence for each statement that could
 * not be run and that the document might have needed.
 */
export async function runPostgresScript(script: string, database: Runner): Promise<readonly string[]> {
  const notes: string[] = [];
  const stubs = new Set<string>();
  await database.run("set check_function_bodies = off");
  for (const { text, line } of splitScript(script, "postgres")) {
    if (isOfNoConcern.test(text)) continue;
    const problem = await runOne(text, database, stubs);
    if (problem !== undefined && isOfConcern.test(text)) notes.push(`line ${line}, ${beginning(text)}: ${problem}`);
  }
  return notes;
}

async function runOne(statement: string, database: Runner, stubs: Set<string>): Promise<string | undefined> {
  let text = withoutModifiers(statement, stubs);
  for (let attempt = 0; attempt < tries; attempt++) {
    try {
      await database.run(text);
      return undefined;
    } catch (error) {
      const { message } = error as Error;
      const repair = repairOf(message, text, stubs);
      if (repair === undefined) return message;
      try {
        if (repair.first !== undefined) await database.run(repair.first);
      } catch {
        return message;
      }
      if (repair.first === undefined && repair.text === text) return message;
      text = withoutModifiers(repair.text, stubs);
    }
  }
  return "it needs too much that is not here";
}

/** What lets a statement run that lacks something. */
function repairOf(
  message: string,
  text: string,
  stubs: Set<string>,
): { readonly first?: string; readonly text: string } | undefined {
  const named = (pattern: RegExp) => pattern.exec(message)?.[1];
  const role = named(/^role "(.+)" does not exist$/);
  if (role !== undefined) return { first: `create role ${quoted(role)}`, text };
  const schema = named(/^schema "(.+)" does not exist$/);
  if (schema !== undefined) return { first: `create schema ${quoted(schema)}`, text };
  const type = named(/^type "(.+?)(?:\[\])?" does not exist$/);
  if (type !== undefined && !stubs.has(type)) {
    stubs.add(type);
    const name = type.split(".").map(quoted).join(".");
    return { first: `create domain ${name} as text; comment on domain ${name} is '${standsForType}'`, text };
  }
  const made = /^function ((?:\w+\.)?uuid_generate_\w+)\(.*\) does not exist/.exec(message)?.[1];
  if (made !== undefined) {
    return { first: `create function ${made}() returns uuid language sql as 'select gen_random_uuid()'`, text };
  }
  if (/^collation ".+" (?:for encoding .+ )?does not exist$/.test(message)) {
    return { text: text.replaceAll(/\bcollate\s+(?:"[^"]+"|\w+)(?:\.(?:"[^"]+"|\w+))?/gi, "") };
  }
  return undefined;
}

/** A type that stands for another takes no length or the like. */
function withoutModifiers(text: string, stubs: ReadonlySet<string>): string {
  let plain = text;
  for (const stub of stubs) {
    const name = (stub.split(".").pop() ?? "").replaceAll(/[.*+?^${}()|[\]\\]/g, "\\$&");
    plain = plain.replaceAll(new RegExp(String.raw`\b(${name}"?)\s*\([^()]*\)`, "gi"), "$1");
  }
  return plain;
}

function quoted(name: string): string {
  return `"${name.replaceAll('"', '""')}"`;
}

function beginning(text: string): string {
  const plain = text.replaceAll(/\s+/g, " ");
  return plain.length <= 60 ? plain : `${plain.slice(0, 57)}...`;
}
