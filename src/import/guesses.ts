import type { DeclaredTable } from "./declare-found.js";
import type { FoundColumn } from "./found.js";

/** Names are all that a guess has to go by, so a guess is only ever a comment. */
const peopleTables = /^(people|persons?|staff|users?|app_users?|accounts?|employees?|members?|profiles?)$/i;
const nameColumns = /^(full_?name|display_?name|name|username|login)$/i;
const managerColumns = /manager|supervisor|boss|reports_to|head/i;
const activeColumns = /^(is_)?(active|enabled)$/i;
const roleColumns = /^(roles?|post|job|position|user_type)$/i;
const ownerColumns = /owner|creat(ed|or)|author|assign|responsible|requested|keeper|user|person|member|employee|staff/i;
const sensitiveColumns =
  /passw|secret|token|salary|wage|ssn|social_sec|tax_|iban|bic|account_no|card_|birth|phone|mobile|email|address|diagnos|health|religio|cost|margin|insur/i;

export function isSensitive(column: string): boolean {
  return sensitiveColumns.test(column);
}

interface People {
  readonly table: string;
  readonly name?: string;
  readonly manager?: string;
  readonly active?: string;
  readonly roles?: string;
}

/** The table of the users: of those that are called like one, the one that most references lead to. */
export function guessPeople(tables: readonly DeclaredTable[]): People | undefined {
  const references = tables.flatMap(({ found }) => found.references);
  const referred = ({ found: { name } }: DeclaredTable) => references.filter(({ table }) => table === name).length;
  const [likely] = tables
    .filter(({ found, key }) => peopleTables.test(found.name) && typeof key === "string")
    .sort((a, b) => referred(b) - referred(a));
  if (likely === undefined) return undefined;
  const { found } = likely;
  const column = (words: RegExp, isRight: (column: FoundColumn) => boolean) =>
    found.columns.find((one) => words.test(one.name) && isRight(one))?.name;
  const selves = found.references.filter(({ table, columns }) => table === found.name && columns.length === 1);
  const guesses = {
    name: column(nameColumns, ({ type }) => type === "text"),
    manager: selves.map(({ columns }) => columns[0] ?? "").find((one) => managerColumns.test(one)),
    active: column(activeColumns, ({ type }) => type === "boolean"),
    roles: column(roleColumns, ({ type }) => typeof type === "object" || type === "text"),
  };
  const made = Object.entries(guesses).filter(([, guess]) => guess !== undefined);
  return { table: likely.name, ...Object.fromEntries(made) };
}

/** A reference to the people that is called like one to an owner. */
export function guessOwner(
  { found, name, key }: DeclaredTable,
  tables: readonly DeclaredTable[],
  people: string,
): string | undefined {
  if (name === people) return typeof key === "string" ? key : undefined;
  const called = new Map(tables.map((one) => [one.found.name, one.name]));
  return found.references
    .filter(({ table, columns }) => columns.length === 1 && called.get(table) === people)
    .map(({ columns }) => columns[0] ?? "")
    .find((column) => ownerColumns.test(column));
}
