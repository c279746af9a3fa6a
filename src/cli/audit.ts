import type { Row } from "../conditions/source.js";
import type { AuditVerification } from "../people/audit-chain.js";
import type { AuditEntry } from "../people/audit-entry.js";
import type { RoleStore } from "../people/role-store.js";
import { formatInstant } from "../schema/instant.js";
import type { Schema } from "../schema/schema.js";
import type { CliCommand } from "./command.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { palette } from "./paint.js";
import { declareData, type StoreOptions, withStore } from "./store.js";

interface AuditOptions extends StoreOptions {
  readonly person?: string;
  readonly limit: string;
  readonly format: "text" | "json";
  readonly verify?: boolean;
  readonly knownDigest?: string;
}

export const auditCommand: CliCommand<AuditOptions> = {
  usage: "audit <file>",
  summary: "Print the audit log of roles: who changed what, for whom, when and why, latest first",
  hasSession: false,
  declare: (command) => {
    declareData(command);
    command
      .option("--person <person>", "only entries about this person, or made by them")
      .option("--limit <number>", "the greatest number of entries", "20")
      .option("--verify", "check that no entry was changed or removed; exit code 1 if one was")
      .option(
        "--known-digest <digest>",
        "with --verify: a digest from an earlier --verify, which the log must still contain",
      );
  },
  run: ([file = ""], options, io) => {
    const limit = Number(options.limit);
    if (!Number.isInteger(limit) || limit < 1) throw new CliError(`--limit takes a number, not "${options.limit}"`);
    const wanted = options.person === undefined ? { limit } : { limit, person: options.person };
    return withStore(file, options, "read", async ({ portier, store, nameOf }): Promise<ExitCode> => {
      if (options.verify || options.knownDigest !== undefined) return verify(store, options, io);
      const entries = await store.auditLog(wanted);
      if (options.format === "json") {
        io.out(`${JSON.stringify({ entries }, null, 2)}\n`);
        return 0;
      }
      const paint = palette(io);
      if (entries.length === 0) io.out("The audit log is empty.\n");
      for (const [index, entry] of entries.entries()) {
        if (index > 0) io.out("\n");
        const by = entry.by === null ? "nobody" : await nameOf(entry.by);
        const acting = entry.actedBy === null ? "" : `, acted by ${await nameOf(entry.actedBy)}`;
        const person = entry.person === null ? "" : await nameOf(entry.person);
        io.out(`${paint.quiet(entry.at.slice(0, 16).replace("T", " "))}  ${paint.heading(entry.kind)}  ${person}\n`);
        for (const line of stateLines(portier.schema, entry)) io.out(`    ${line}\n`);
        io.out(`    by ${by}${acting}${entry.reason === null ? "" : `: ${entry.reason}`}\n`);
        const told = entry.kind === "decision" || entry.kind === "provision" ? "" : "confirmed: ";
        for (const detail of entry.details) io.out(`    ${paint.quiet(`${told}${detail}`)}\n`);
      }
      return 0;
    });
  },
};

const problems: Readonly<Record<NonNullable<AuditVerification["problem"]>, (entries: number) => string>> = {
  changed: (entries) => `entry ${entries + 1} was changed, or the one before it is missing`,
  missing: (entries) => `an entry is missing after ${entries}`,
  truncated: (entries) => `entries are missing at the end, after ${entries}`,
  "unknown-digest": () => "it does not contain the known digest: it was rewritten or truncated",
};

async function verify(store: RoleStore, { knownDigest, format }: AuditOptions, io: Io): Promise<ExitCode> {
  const found = await store.verifyAuditLog(knownDigest === undefined ? {} : { knownDigest });
  const { entries, head, problem } = found;
  if (format === "json") io.out(`${JSON.stringify(found, null, 2)}\n`);
  else if (problem === undefined) io.out(`The audit log is complete: ${entries} entries, digest ${head || "none"}.\n`);
  else io.out(`The audit log is not complete: ${problems[problem](entries)}.\n`);
  return problem === undefined ? 0 : 1;
}

/** What was before, and what is now. */
function stateLines(schema: Schema, { before, after }: AuditEntry): string[] {
  return [...before.map((row) => `- ${rowText(schema, row)}`), ...after.map((row) => `+ ${rowText(schema, row)}`)];
}

const untold = ["id", "assignedBy", "reason"];

function rowText(schema: Schema, row: Row): string {
  const text = (name: string, value: unknown) => {
    if (Array.isArray(value)) return value.join(", ");
    return name === "from" || name === "until" ? formatInstant(schema, String(value)) : String(value);
  };
  return Object.entries(row)
    .filter(
      ([name, value]) => value !== null && !untold.includes(name) && !(Array.isArray(value) && value.length === 0),
    )
    .map(([name, value]) => `${name} ${text(name, value)}`)
    .join(", ");
}
