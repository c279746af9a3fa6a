import { Option } from "commander";
import { replicaMigration } from "../database/count-changes.js";
import { Records } from "../database/records.js";
import { storeMigration } from "../people/database-store.js";
import type { ShowAction } from "../rules/action-tree.js";
import { actionNamesOf, actionOf } from "../rules/actions.js";
import { PortierError } from "../schema/problems.js";
import { problem } from "../schema/report.js";
import type { Table } from "../schema/schema.js";
import type { Portier } from "../session/portier.js";
import { createTables } from "../sql/create-tables.js";
import type { Dialect } from "../sql/dialect.js";
import type { Statement } from "../sql/fragment.js";
import { mariadb } from "../sql/mariadb.js";
import { maskedSelect } from "../sql/masked-select.js";
import { postgres } from "../sql/postgres.js";
import { rowSecurity } from "../sql/row-security/row-security.js";
import { sqlite } from "../sql/sqlite.js";
import { where } from "../sql/where.js";
import type { Viewer } from "../verify/viewers.js";
import type { CliCommand } from "./command.js";
import { databaseAddresses, isDatabase, withDatabase } from "./database.js";
import { databaseViewer } from "./database-records.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { layoutSql } from "./layout-sql.js";
import {
  dataFolder,
  findViewer,
  loadData,
  loadDocument,
  rolesFile,
  type SessionFlags,
  sessionOptions,
  viewerTitle,
} from "./load.js";
import { tableName } from "./matrix.js";
import { palette } from "./paint.js";

interface SqlOptions extends SessionFlags {
  readonly as?: string;
  readonly data?: string;
  readonly dialect?: Dialect["name"];
  readonly select?: true;
  readonly tables?: true;
  readonly store?: true;
  readonly replica?: true;
  readonly rowSecurity?: true;
  readonly withoutOverlay?: true;
  readonly remove?: true;
  readonly schema?: string;
  readonly reader?: string;
  readonly tablesIn?: string;
  readonly user?: readonly string[];
  readonly application?: readonly string[];
  readonly format: "text" | "json";
}

const dialects: Readonly<Record<Dialect["name"], Dialect>> = { postgres, sqlite, mariadb };
const showActions: readonly string[] = ["list", "view", "export"] satisfies ShowAction[];

export const sqlCommand: CliCommand<SqlOptions> = {
  usage: "sql <file> [table] [action]",
  summary: "Print a person's filter or masked select as it goes to the database (action: list)",
  declare: (command) => {
    command
      .option("--as <person>", "the current user: the key of a person, or visitor (the default)")
      .option("--tables", "print the statements that create the document's tables in an empty database")
      .option(
        "--store",
        "print the statements that create the tables for assignments, delegations and the audit log; safe to run again",
      )
      .option(
        "--replica",
        "print the statements that have PostgreSQL count changes of who may do what, for applications that read from a standby",
      )
      .option("--row-security", "print a migration that enforces all rules in PostgreSQL, for every login")
      .option("--without-overlay", "with --row-security: leave out the views that are planned for the current user")
      .option("--remove", "with --row-security: print the script that removes it")
      .option("--user <role...>", "with --row-security: database roles that may use the views")
      .option("--application <role...>", "with --row-security: database roles that may also set the current user")
      .option(
        "--schema <name>",
        "with --row-security: the schema of the views (default: portier); those of the overlay are in NAME_app",
      )
      .option(
        "--reader <role>",
        "with --row-security: the database role that owns the views (default: portier_reader); NAME_app owns the overlay",
      )
      .option("--tables-in <name>", "with --row-security: the schema of the tables (default: public)")
      .option("--select", "print the whole masked select, not only the condition")
      .addOption(
        new Option(
          "--dialect <name>",
          "the SQL dialect (default: that of the database of --data, or postgres)",
        ).choices(Object.keys(dialects)),
      )
      .option(
        "--data <folder or database>",
        `where the current user is: records as TABLE.json or TABLE.csv, or ${databaseAddresses} (default: the folder data beside FILE)`,
      );
  },
  run: (args, options, io) => runSql(args, options, io),
};

function runSql(args: readonly (string | undefined)[], options: SqlOptions, io: Io): ExitCode | Promise<ExitCode> {
  const [file = "", name = "", action = "list"] = args;
  const { portier } = loadDocument(file);
  const dialect = dialects[options.dialect ?? "postgres"];
  if (options.replica && options.dialect !== undefined && options.dialect !== "postgres") {
    throw new CliError(`--replica is for PostgreSQL, not for ${options.dialect}`);
  }
  if (options.tables || options.store || options.replica) {
    const statements = options.replica
      ? replicaMigration(portier)
      : options.store
        ? storeMigration(portier, dialect)
        : createTables(portier.schema, dialect);
    if (options.format === "json") io.out(`${JSON.stringify(statements, null, 2)}\n`);
    else io.out(`${statements.join(";\n\n")};\n`);
    return 0;
  }
  if (options.rowSecurity) {
    io.out(rowSecurityScript(portier, options, io));
    return 0;
  }
  const only = ["withoutOverlay", "remove", "user", "application", "schema", "reader", "tablesIn"] as const;
  if (only.some((flag) => options[flag] !== undefined)) {
    throw new CliError(
      "--without-overlay, --remove, --user, --application, --schema, --reader and --tables-in belong to --row-security",
    );
  }
  if (name === "")
    throw new CliError("sql needs the name of a table, or --tables, --store, --replica or --row-security");
  const table = portier.schema.tables.get(tableName(portier, name)) as Table;
  if (actionOf(table, action) === undefined) {
    const facts = { table: table.name, name: action, candidates: actionNamesOf(table) };
    throw new PortierError([problem("unknown-action", facts)]);
  }
  if (options.select && !showActions.includes(action)) {
    throw new CliError(`--select shows records: for ${showActions.join(", ")}, not for ${action}`);
  }
  const statementOf = ({ session }: Viewer, as: Dialect) =>
    options.select
      ? maskedSelect(session, table.name, as, { action: action as ShowAction })
      : where(session, table.name, action, as);
  const shown = (viewer: Viewer, { text, params }: Statement, as: Dialect): ExitCode => {
    if (options.format === "json")
      io.out(`${JSON.stringify({ viewer: viewer.id, dialect: as.name, text, params }, null, 2)}\n`);
    else io.out(printed({ text, params }, `${viewerTitle(viewer)}: ${action} ${table.name}`, as, io));
    return 0;
  };
  const named = dataFolder(file, options.data);
  if (named === undefined && options.as !== undefined && options.as !== "visitor") {
    throw new CliError("sql needs the records of the current user: name their folder or database with --data");
  }
  if (named !== undefined && isDatabase(named)) {
    const shared = sessionOptions(portier, options, undefined, io);
    return withDatabase(named, async ({ connection }) => {
      const source = new Records(connection, portier.schema);
      const viewer = await databaseViewer(portier, connection, options.as, shared, source);
      const as = options.dialect === undefined ? connection.dialect : dialect;
      return shown(viewer, await source.read(() => statementOf(viewer, as)), as);
    });
  }
  const data = named === undefined ? undefined : loadData(portier, named, rolesFile(file));
  const shared = sessionOptions(portier, options, data?.source, io);
  const viewer = findViewer(portier, data ?? { tables: new Map() }, options.as, shared);
  return shown(viewer, statementOf(viewer, dialect), dialect);
}

function rowSecurityScript(portier: Portier, options: SqlOptions, io: Io): string {
  if ((options.dialect ?? "postgres") !== "postgres") {
    throw new CliError(
      `row security needs PostgreSQL; with ${options.dialect} the rules hold through the library only`,
    );
  }
  const { migration, removal, warnings } = rowSecurity(portier, {
    ...(options.schema === undefined ? {} : { schema: options.schema }),
    ...(options.reader === undefined ? {} : { reader: options.reader }),
    ...(options.tablesIn === undefined ? {} : { tables: options.tablesIn }),
    ...(options.withoutOverlay ? { withoutOverlay: true } : {}),
    ...(options.user === undefined ? {} : { users: options.user }),
    ...(options.application === undefined ? {} : { applications: options.application }),
  });
  if (options.format === "json") return `${JSON.stringify({ migration, removal, warnings }, null, 2)}\n`;
  if (!options.remove) for (const warning of warnings) io.err(`not held by row security: ${warning}\n`);
  const paint = palette(io);
  return options.remove
    ? `${paint.heading("-- Takes row security away. Run it as the owner of the tables.")}\n${removal}`
    : `${paint.heading("-- Puts the rules in force. Run it as the owner of the tables; it can be run again.")}\n${migration}`;
}

/** SQL that can be pasted: everything around the statement is a comment. */
function printed({ text, params }: Statement, title: string, dialect: Dialect, io: Io): string {
  const paint = palette(io);
  const lines = [paint.heading(`-- ${title}`), layoutSql(text, io.width)];
  if (params.length > 0) lines.push(paint.quiet("-- parameters"));
  for (const [index, value] of params.entries()) {
    const place = dialect.placeholder(index + 1);
    const label = place === "?" ? String(index + 1) : place;
    lines.push(paint.quiet(`--   ${label.padEnd(4)}${JSON.stringify(value)}`));
  }
  return `${lines.join("\n")}\n`;
}
