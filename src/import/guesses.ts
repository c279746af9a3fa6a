import type { FoundTable } from "./found.js";

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

/** The table of those who ask: of those that are called like one, the one that most references lead to. */
export function guessPeople(found: readonly FoundTable[], kept: ReadonlyMap<FoundTable, string>): People | undefined {
  const referred = ({ name }: FoundTable) =>
    found.flatMap(({ references }) => references).filter(({ table }) => table === name).length;
  const [likely] = [...kept.keys()]
    .filter((table) => peopleTables.test(table.name) && table.key.length === 1)
    .sort((a, b) => referred(b) - referred(a));
  const name = likely && kept.get(likely);
  if (likely === undefined || name === undefined) return undefined;
  const column = (words: RegExp, isRight: (column: FoundTable["columns"][number]) => boolean) =>
    likely.columns.find((one) => words.test(one.name) && isRight(one))?.name;
  const selves = likely.references.filter(({ table, columns }) => table === likely.name && columns.length === 1);
  const manager = selves.map(({ columns }) => columns[0] ?? "").find((one) => managerColumns.test(one));
  const guesses = {
    name: column(nameColumns, ({ type }) => type === "text"),
    manager,
    active: column(activeColumns, ({ type }) => type === "boolean"),
    roles: column(roleColumns, ({ type }) => typeof type === "object" || type === "text"),
  };
  return { table: name, ...Object.fromEntries(Object.entries(guesses).filter(([, guess]) => guess !== undefined)) };
}

/** A reference to the people that is called like one to an owner. */
export function guessOwner(
  { references, key }: FoundTable,
  name: string,
  kept: ReadonlyMap<FoundTable, string>,
  people: string,
): string | undefined {
  if (name === people) return key[0];
  const names = new Map([...kept].map(([table, called]) => [table.name, called]));
  const toPeople = references.filter(({ table, columns }) => columns.length === 1 && names.get(table) === people);
  return toPeople.map(({ columns }) => columns[0] ?? "").find((column) => ownerColumns.test(column));
}
