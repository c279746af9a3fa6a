import type { DeclaredTable } from "./declare-found.js";
import type { FoundColumn, FoundTable } from "./found.js";

// Names are all that a guess has to go by, so it is only ever a comment, with what it goes by.

/** Something that a name suggests, and why. */
export interface Guess<V> {
  readonly value: V;
  readonly reason: string;
}

interface People {
  readonly table: string;
  readonly name?: string;
  readonly manager?: string;
  readonly active?: string;
  readonly roles?: string;
}

const peopleTables =
  /(?:^|_)(?:people|persons?|staff|users?|accounts?|employees?|members?|profiles?|logins?|operators?)$/i;
const signInColumns =
  /^(?:user_?name|login|e_?mail|email_?address|password|password_?hash|passwd|encrypted_password)$/i;
const nameColumns = /^(?:full_?name|display_?name|name|user_?name|login)$/i;
const managerColumns = /manager|supervisor|boss|reports_to|head|superior/i;
const activeColumns = /^(?:is_)?(?:active|enabled)$/i;
const roleColumns = /^(?:roles?|post|job|position|user_?type|user_?role)$/i;

/** Words for who owns a record, those first that say it best. */
const ownerWords: readonly RegExp[] = [
  /owner|owned/i,
  /keeper|responsible|assign|in_charge|handler/i,
  /author|creat(?:ed|or)|request(?:ed|er)|submitted|opened|reported/i,
  /user|person|people|member|employee|staff|account/i,
];

/** What a column is that is called so: the words of its name, and what it tells. */
const sensitiveWords: readonly (readonly [RegExp, string])[] = [
  [/pass(?:word|wd|phrase|code)s?|secrets?|credentials?|otp|pins?|salt/, "lets somebody in"],
  [
    /(?:api|private|access|secret|signing|encryption|ssh|auth|license|shared)_?keys?|tokens?|communit(?:y|ies)/,
    "lets somebody in",
  ],
  [/salar(?:y|ies)|wages?|income|bonus|payroll|compensation/, "is what somebody earns"],
  [
    /ssn|social_?security|tax|vat_?number|passport|national_?id|identity_?card|licen[cs]e_?number/,
    "names somebody to the authorities",
  ],
  [/iban|bic|swift|account_?(?:no|number)|card_?(?:no|number)|cvv|cvc/, "leads to money"],
  [/birth(?:day|date|s)?|dob|gender|sex|religion|religious|nationality|ethnic\w*|marital\w*/, "is of a person's life"],
  [/diagnos[ie]s|health|medical|allerg(?:y|ies)|disabilit(?:y|ies)|blood/, "is of a person's health"],
  [
    /phones?|mobiles?|e_?mails?|fax|address(?:es)?|street|postcode|zip|postal_?code|home_?\w+/,
    "is where somebody is reached",
  ],
  [/costs?|margins?|insur\w+|discounts?|purchase_?prices?/, "is what is paid or earned"],
];

/** Whether a column's name suggests that it is sensitive. What refers to another record is not what it leads to. */
export function guessSensitive(column: string): string | undefined {
  const name = column.replaceAll(/([a-z\d])([A-Z])/g, "$1_$2").toLowerCase();
  if (/(?:^|_)(?:ids?|uuid|count|type|at|on|enabled|verified|required)$/.test(name) && !/national_id$/.test(name))
    return undefined;
  return sensitiveWords.find(([words]) => new RegExp(`(?:^|_)(?:${words.source})(?:_|\\d|$)`).test(name))?.[1];
}

/**
 * The table of the users: of those that are called like one, or have what somebody signs in with, the one for which most
 * speaks.
 */
export function guessPeople(tables: readonly DeclaredTable[]): Guess<People> | undefined {
  const leading = new Map<string, number>();
  for (const { found } of tables) {
    for (const { schema, table } of found.references) {
      const id = JSON.stringify([schema, table]);
      leading.set(id, (leading.get(id) ?? 0) + 1);
    }
  }
  const candidates = tables.flatMap((declared) => {
    const { found, key } = declared;
    const isCalled = peopleTables.test(found.name);
    const signIn = found.columns.find(({ name }) => signInColumns.test(name));
    if (typeof key !== "string" || (!isCalled && signIn === undefined)) return [];
    const count = leading.get(JSON.stringify([found.schema, found.name])) ?? 0;
    // A table that is only called so, and to which nothing leads, is rather one of their details.
    const score = (isCalled ? 4 : 0) + (signIn === undefined ? 0 : 3) + Math.min(4, count);
    const reasons = [
      ...(isCalled ? ["the table is called so"] : []),
      ...(signIn === undefined ? [] : [`"${signIn.name}" is there to sign in with`]),
      ...(count === 0 ? [] : [`${count} foreign key${count === 1 ? " leads" : "s lead"} to it`]),
    ];
    return [{ declared, score, count, reason: reasons.join(", ") }];
  });
  const [likely] = candidates.sort((a, b) => b.score - a.score || b.count - a.count);
  return likely && { value: peopleOf(likely.declared), reason: likely.reason };
}

function peopleOf({ found, name }: DeclaredTable): People {
  const column = (words: RegExp, isRight: (column: FoundColumn) => boolean) =>
    found.columns.find((one) => words.test(one.name) && isRight(one))?.name;
  const selves = found.references.filter((one) => isTo(one, found) && one.columns.length === 1);
  const guesses = {
    name: column(nameColumns, ({ type }) => type === "text"),
    manager: selves.map(({ columns }) => columns[0] ?? "").find((one) => managerColumns.test(one)),
    active: column(activeColumns, ({ type }) => type === "boolean"),
    roles: column(roleColumns, ({ type }) => typeof type === "object" || type === "text"),
  };
  return { table: name, ...Object.fromEntries(Object.entries(guesses).filter(([, guess]) => guess !== undefined)) };
}

/** A reference to the people that is called like one to an owner. */
export function guessOwner(
  { found, name, key, entries }: DeclaredTable,
  tables: readonly DeclaredTable[],
  people: string,
): Guess<string> | undefined {
  if (name === people) return typeof key === "string" ? { value: key, reason: "who it is about" } : undefined;
  const table = tables.find((one) => one.name === people)?.found;
  const leading = found.references.flatMap((one) => {
    const [column = ""] = one.columns;
    const isField = entries.some((entry) => entry.name === column && entry.field !== undefined);
    return table !== undefined && isTo(one, table) && one.columns.length === 1 && isField ? [column] : [];
  });
  for (const words of ownerWords) {
    const column = leading.find((one) => words.test(one));
    if (column !== undefined) return { value: column, reason: `it leads to ${people}, and its name says so` };
  }
  return undefined;
}

function isTo(reference: { readonly schema: string | undefined; readonly table: string }, table: FoundTable): boolean {
  return reference.table === table.name && reference.schema === table.schema;
}
