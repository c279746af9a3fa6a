import {
  DummyDriver,
  Kysely,
  MysqlAdapter,
  MysqlIntrospector,
  MysqlQueryCompiler,
  PostgresAdapter,
  PostgresIntrospector,
  PostgresQueryCompiler,
  SqliteAdapter,
  SqliteIntrospector,
  SqliteQueryCompiler,
} from "kysely";
import type { Dialect } from "../../src/sql/dialect.js";

/** The museum's tables, as far as statements of tests name them. */
export interface MuseumTables {
  objects: {
    accession: string;
    title: string;
    label: string | null;
    department: string;
    keeper: string | null;
    status: string;
    shelf: string | null;
    insured_value: string | null;
  };
  loans: {
    id: string;
    object: string;
    borrower: string;
    requested_by: string;
    status: string;
    starts_on: string;
    ends_on: string;
    fee: string | null;
  };
  staff: { id: string; name: string; department: string; manager: string | null; salary: string | null };
  departments: { id: string; name: string };
  treatments: { id: string; object: string; conservator: string; cost: string | null };
  exhibits: { exhibition: string; object: string; caption: string | null };
  secrets: { id: string };
}

const tools = {
  postgres: { Adapter: PostgresAdapter, Introspector: PostgresIntrospector, Compiler: PostgresQueryCompiler },
  sqlite: { Adapter: SqliteAdapter, Introspector: SqliteIntrospector, Compiler: SqliteQueryCompiler },
  mariadb: { Adapter: MysqlAdapter, Introspector: MysqlIntrospector, Compiler: MysqlQueryCompiler },
} as const;

/** A query builder that only writes: what it compiles is run on an engine by the test. */
export function builderFor<T>({ name }: Dialect): Kysely<T> {
  const { Adapter, Introspector, Compiler } = tools[name];
  return new Kysely<T>({
    dialect: {
      createAdapter: () => new Adapter(),
      createDriver: () => new DummyDriver(),
      createIntrospector: (db) => new Introspector(db),
      createQueryCompiler: () => new Compiler(),
    },
  });
}
