import { quoteText } from "../../schema/scalar.js";
import type { Fact, Fragment } from "../fragment.js";
import { postgres } from "../postgres.js";

/** The schemas that the migration makes. */
export interface Schemas {
  /** What people and programs use: the views, and the functions that set the current user. */
  readonly seen: string;
  /** What these are made of; closed to everybody. */
  readonly inside: string;
  /** Where the tables are that name no schema. */
  readonly tables: string;
  /** The names of what is inside. */
  readonly names: Names;
  /** The database role with whose rights the views read records, and to which the policies are. */
  readonly reader: string;
  /** Where the views are that are planned for the current user, and with whose rights they read records: see overlay.ts. */
  readonly overlay: { readonly seen: string; readonly reader: string };
  /** Whether there are such views. */
  readonly hasOverlay: boolean;
}

/** How a statement comes to what it asks of the current user. */
export type FactWriter = (one: Fact) => string;

/** Where {@link fromSubject} is among the tables. */
export const joined: FactWriter = (one) => ofColumn(subjectAlias, one);

/** In a trigger, where the current user is a variable. */
export const ofVariable: FactWriter = (one) => ofColumn(subjectAlias, one);

/** Where a condition is to be served by an index, or stands alone: worked out once for the statement. */
export function selected(schema: string): FactWriter {
  return (one) => {
    // Without a "from", as it is copied again and again while a statement is planned.
    const select = `(select ${ofColumn(`(${qualified(schema, "me")}())`, one)})`;
    // After "any" a select alone would be read as rows, not as a list.
    return one.kind === "list" && one.has === undefined ? `coalesce(${select})` : select;
  };
}

/** A fact as the column of a record. */
export function ofColumn(record: string, { fact, has }: Fact): string {
  const value = `${record}.${postgres.quoteName(fact)}`;
  return has === undefined ? value : hasText(value, has);
}

/** Whether a list of texts has one. */
export function hasText(list: string, text: string): string {
  return `${list} @> ${textArray([text])}`;
}

/** The current user, as a table of one row. */
export function fromSubject(schema: string): string {
  return `${qualified(schema, "me")}() ${subjectAlias}`;
}

/** What the current user is called among the tables of a statement, as in a trigger. */
export const subjectAlias = "_me";

/** What the tests that several columns share are called there. */
export const isShownAlias = "_shows";

/** A fragment with its values written out, for statements that take no parameters. */
export function written(fragment: Fragment, facts: FactWriter = joined): string {
  return fragment
    .map((piece) => {
      if (typeof piece === "string") return piece;
      return "fact" in piece ? facts(piece) : literal(piece.param);
    })
    .join("");
}

/**
 * A value as PostgreSQL reads it, whatever `standard_conforming_strings` says: functions are read anew in each session, and
 * whoever opens one sets that.
 */
export function literal(value: unknown): string {
  if (value === null || value === undefined) return "null";
  if (typeof value === "number" || typeof value === "boolean" || typeof value === "bigint") return String(value);
  const text = typeof value === "string" ? value : JSON.stringify(value);
  return text.includes("\\") ? ` E${quoteText(text.replaceAll("\\", "\\\\"))}` : quoteText(text);
}

/** By which views and roles of a migration are known from others. */
export const mark = "Portier: ";

/** Text as the database's `format` leaves it. */
export function plain(text: string): string {
  return text.replaceAll("%", "%%");
}

/** A name in quotes, below that of a schema. */
export function qualified(schema: string, name: string): string {
  return `${postgres.quoteName(schema)}.${postgres.quoteName(name)}`;
}

/** Text between dollars, with a tag that it does not hold. */
export function dollars(body: string): string {
  let tag = "$portier$";
  for (let n = 2; body.includes(tag); n++) tag = `$portier${n}$`;
  return `${tag}\n${body}\n${tag}`;
}

/** A list of texts as a value. */
export function textArray(texts: readonly string[]): string {
  return `array[${texts.map(literal).join(", ")}]::text[]`;
}

/** The same as one text, for where a list of texts is expected: `'{title,label}'`. */
export function textsLiteral(texts: readonly string[]): string {
  const elements = texts.map((text) =>
    /^(?!null$)[\w./-]+$/i.test(text) ? text : `"${text.replace(/[\\"]/g, "\\$&")}"`,
  );
  return literal(`{${elements.join(",")}}`);
}

/** A fragment with its values written out, in a trigger. */
export function inTrigger(fragment: Fragment): string {
  return written(fragment, ofVariable);
}

/** Of some fields those that are given, as a list. */
export function common({ inside }: Schemas, fields: readonly string[]): string {
  return `${qualified(inside, "common")}(_given, ${textsLiteral(fields)})`;
}

/** Those of some texts that are not among others. */
export function without({ inside }: Schemas, texts: string, gone: string): string {
  return `${qualified(inside, "without")}(${texts}, ${gone})`;
}

/** A test in parentheses, once. */
export function enclosed(test: string): string {
  let depth = 0;
  for (const [at, token] of [...test.matchAll(/'(?:[^']|'')*'|"(?:[^"]|"")*"|[()]/g)].entries()) {
    depth += token[0] === "(" ? 1 : token[0] === ")" ? -1 : 0;
    if (at === 0 && token.index > 0) break;
    if (depth === 0) return token.index === test.length - 1 ? test : `(${test})`;
  }
  return `(${test})`;
}

/** Lines between a head and a foot. */
export function block(head: string, lines: readonly string[], ...foot: readonly string[]): string {
  return [head, ...lines.map((line) => indent(line)), ...foot].join("\n");
}

/** Lines moved to the right. */
export function indent(text: string, by = "  "): string {
  return text.replace(/^(?=.)/gm, by);
}

/** PostgreSQL keeps as many bytes of a name. */
const kept = 63;

export function isKeptWhole(name: string): boolean {
  return shortened(name, kept) === name;
}

/**
 * Names of functions that are told apart in the bytes that PostgreSQL keeps of a name: one that is longer, or is taken by
 * another thing, is given a number.
 */
export class Names {
  readonly #given = new Map<string, string>();
  readonly #taken = new Set<string>();

  /** The name of a thing; `id` tells things apart that would be called alike. */
  of(wanted: string, id = wanted): string {
    const known = this.#given.get(id);
    if (known !== undefined) return known;
    let name = shortened(wanted, kept);
    for (let n = 2; this.#taken.has(name); n++) name = `${shortened(wanted, 58)} ${n}`;
    this.#taken.add(name);
    this.#given.set(id, name);
    return name;
  }
}

function shortened(text: string, bytes: number): string {
  let kept = "";
  let used = 0;
  for (const character of text) {
    const point = character.codePointAt(0) ?? 0;
    used += point < 0x80 ? 1 : point < 0x800 ? 2 : point < 0x10000 ? 3 : 4;
    if (used > bytes) return kept;
    kept += character;
  }
  return kept;
}

/** A column of a table as a type: `"staff"."id"%type`. */
export function typeOf(source: string, column: string): string {
  return `${source}.${postgres.quoteName(column)}%type`;
}

/** A function that those of the migration alone call: it runs with their rights, and finds things where they do. */
export function ownFunction(head: string, body: string, volatility = "volatile"): string {
  return `create function ${head}\n  language plpgsql ${volatility} parallel restricted\nas ${dollars(body)}`;
}

/**
 * A function whose body runs with the rights of the migration's user, and finds nothing in a schema of the caller's.
 * `path`: where triggers of the tables themselves may find things.
 */
export function definerFunction(
  head: string,
  body: string,
  { volatility = "volatile", parallel = "restricted", path = "pg_catalog, pg_temp", settings = "" } = {},
): string {
  const marks = `language plpgsql ${volatility} parallel ${parallel} security definer set search_path = ${path} ${settings}`;
  return `create function ${head}\n  ${marks}\nas ${dollars(body)}`;
}
