import { AsyncLocalStorage } from "node:async_hooks";
import type { Portier } from "portier";
import type { Connection } from "portier/database";
import { compileText } from "portier/document";

/** The rules as they are at one time. */
export interface Rules {
  readonly version: number;
  /** The document, in YAML. */
  readonly text: string;
  readonly portier: Portier;
}

/** Somebody else has changed the rules since they were read. Nothing was done. */
export class RulesChanged extends Error {
  override readonly name = "RulesChanged";
}

export interface KeptRules {
  /** The rules that count now, whoever has changed them. */
  current(): Promise<Rules>;
  /**
   * Puts another document in the place of one, in a transaction that is under way.
   *
   * @throws PortierError where it does not compile; RulesChanged where the one to be replaced is not there any more.
   */
  replace(inside: Connection, old: Rules, text: string): Promise<void>;
  /** Calls when the rules have changed; gives what ends it. */
  watch(onChange: () => void): Promise<() => Promise<void>>;
}

const channel = "museum_rules";

/**
 * The rules, kept in the database beside what they are about: the application itself changes ranges of the plan. A change is
 * one statement in the transaction that moves the rows, so no row is ever judged by ranges that stand elsewhere.
 */
export async function keepRules(connection: Connection, text: string): Promise<KeptRules> {
  const { quoteName, placeholder } = connection.dialect;
  const table = quoteName("museum_rules");
  await connection.query(
    `create table if not exists ${table} (id integer primary key check (id = 1), version integer not null, document text not null)`,
    [],
  );
  await connection.query(
    `insert into ${table} (id, version, document) values (1, 1, ${placeholder(1)}) on conflict do nothing`,
    [text],
  );
  let known: Rules | undefined;
  return {
    current: async () => {
      const [row] = await connection.query(`select version from ${table}`, []);
      if (known !== undefined && known.version === Number(row?.["version"])) return known;
      const [held] = await connection.query(`select version, document from ${table}`, []);
      const document = String(held?.["document"]);
      known = { version: Number(held?.["version"]), text: document, portier: compileText(document) };
      return known;
    },
    replace: async (inside, old, next) => {
      compileText(next);
      const changed = await inside.query(
        `update ${table} set version = version + 1, document = ${placeholder(1)} where version = ${placeholder(2)} returning version`,
        [next, old.version],
      );
      if (changed.length === 0) throw new RulesChanged("the rules are not any more as they were");
      await inside.query("select pg_notify($1, '')", [channel]);
    },
    watch: async (onChange) => (await connection.listen?.(channel, onChange, () => {})) ?? (async () => {}),
  };
}

/** Whether a request has written something yet: one that has is not to be begun anew. */
export const written = new AsyncLocalStorage<{ isWritten: boolean }>();

/**
 * A connection whose transactions see the rules that they are to be judged by, or nothing: between a request's first look at
 * the rules and its transaction, rows and ranges may have moved together.
 */
export function underRules(connection: Connection, { version }: Rules): Connection {
  const checked =
    <T>(work: (inside: Connection) => Promise<T>) =>
    async (inside: Connection): Promise<T> => {
      const [row] = await inside.query(`select version from ${inside.dialect.quoteName("museum_rules")}`, []);
      if (Number(row?.["version"]) !== version) throw new RulesChanged("the rules are not any more as they were");
      return work(noting(inside));
    };
  const { reading } = connection;
  return {
    ...connection,
    transaction: (work) => connection.transaction(checked(work)),
    ...(reading === undefined ? {} : { reading: (work) => reading(checked(work)) }),
  };
}

/** Notes for the request that something is written; whether it is committed as well does not matter then. */
function noting(inside: Connection): Connection {
  return {
    ...inside,
    query: async (text, params) => {
      const found = await inside.query(text, params);
      const request = written.getStore();
      if (request !== undefined && !/^\s*select\b/i.test(text)) request.isWritten = true;
      return found;
    },
  };
}
