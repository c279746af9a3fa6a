import { administration } from "../people/administration.js";
import type { ProtectionChange } from "../people/protections.js";
import type { RoleOutcome } from "../people/role-outcome.js";
import { protectionEffects } from "../schema/kept-tables.js";
import type { SharedDifference } from "../verify/gains.js";
import { accessCells, accessHeadings } from "./access-lines.js";
import { isRefused, mostLines, printEnd } from "./change-roles.js";
import { columns } from "./columns.js";
import type { CliCommand } from "./command.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { type SessionFlags, sessionOptions } from "./load.js";
import { palette } from "./paint.js";
import { declareData, type OpenStore, type StoreOptions, withStore } from "./store.js";

interface ProtectOptions extends SessionFlags, StoreOptions {
  readonly as?: string;
  readonly id?: string;
  readonly to?: readonly string[];
  readonly except?: string;
  readonly effect?: string;
  readonly copyOf?: string;
  readonly note?: string;
  readonly from?: string;
  readonly until?: string;
  readonly reason?: string;
  readonly preview?: true;
  readonly confirm?: true;
  readonly format: "text" | "json";
}

export const protectCommand: CliCommand<ProtectOptions> = {
  usage: "protect <file> <table> [ranges]",
  summary:
    "Protect cells of a grid (B2:F40, C7, G:G, 2:2, A2:E, H:), or change a protection, after showing who loses what",
  declare: (command) => {
    declareData(command);
    command
      .option("--as <person>", "who protects them: somebody whom a rule permits to")
      .option("--to <names...>", 'who may still edit them: roles, groups, "person KEY" (default: the one in --as)')
      .option("--except <ranges>", "cells to leave out")
      .option("--effect <effect>", "reserve: nobody else edits them; confirm: everybody else is asked first")
      .option("--copy-of <id>", "copy who may still edit from the protection with this id")
      .option("--note <text>", "what is protected and why; shown to everybody who is refused")
      .option("--from <date>", "when it begins: a date or an instant (default: now)")
      .option("--until <date>", "when it ends: a date or an instant (default: never)")
      .option("--id <id>", "change the protection with this id; what is left out stays as it is")
      .option("--reason <text>", "why; kept in the audit log")
      .option("--preview", "print what would change, and change nothing")
      .option("--confirm", "make the change although there are warnings");
  },
  run: ([file = "", table = "", ranges], options, io) => {
    const { id, to, except, effect, copyOf, note, from, until, reason } = options;
    const known = protectionEffects.find((one) => one === effect);
    if (effect !== undefined && known === undefined)
      throw new CliError(`"${effect}" is not an effect of a protection: write reserve or confirm`);
    const cells = ranges === undefined ? undefined : listOf(ranges);
    const parts = {
      to,
      effect: known,
      note,
      from,
      until,
      reason,
      except: except === undefined ? undefined : listOf(except),
    };
    if (id !== undefined) return protect(file, { kind: "change-protection", id, ranges: cells, ...parts }, options, io);
    if (cells === undefined) throw new CliError("name the cells: portier protect FILE TABLE B2:F40");
    return protect(file, { kind: "protect", table, ranges: cells, copyOf, ...parts }, options, io);
  },
};

export const unprotectCommand: CliCommand<ProtectOptions> = {
  usage: "unprotect <file> <id>",
  summary: "Remove a protection of cells, once that is confirmed",
  declare: (command) => {
    declareData(command);
    command
      .option("--as <person>", "who removes it: the one who made it, or one of those whom it names")
      .option("--reason <text>", "why; kept in the audit log")
      .option("--preview", "print what would change, and change nothing")
      .option("--confirm", "make the change although there are warnings");
  },
  run: ([file = "", id = ""], options, io) => {
    return protect(file, { kind: "unprotect", id, reason: options.reason }, options, io);
  },
};

export const protectionsCommand: CliCommand<ProtectOptions> = {
  usage: "protections <file> <table>",
  summary: "List the protected cells of a grid: where, for whom, by whom and why",
  declare: (command) => {
    declareData(command);
    command.option("--as <person>", "mark the protections that this person may change");
  },
  run: ([file = "", table = ""], options, io) => list(file, table, options, io),
};

function listOf(text: string): string[] {
  return text.split(/[\s,]+/).filter((one) => one !== "");
}

function as(open: OpenStore, options: ProtectOptions, io: Io) {
  if (options.as === undefined) throw new CliError("name the person who makes the change: --as PERSON");
  const { request } = sessionOptions(open.portier, options, undefined, io);
  return administration(open.portier, open.store).as({ person: options.as, request });
}

function list(file: string, table: string, options: ProtectOptions, io: Io): Promise<ExitCode> {
  return withStore(file, options, "read", async (open): Promise<ExitCode> => {
    const found = await as(open, options, io).protections(table);
    if (options.format === "json") io.out(`${JSON.stringify(found, null, 2)}\n`);
    else if (found.length === 0) io.out(`Nothing is protected in ${table}.\n`);
    else {
      const day = (instant: string | null) => (instant === null ? "" : instant.slice(0, 10));
      const rows = found.map((one) => [
        one.id,
        `${one.ranges.join(" ")}${one.except === null ? "" : ` but ${one.except.join(" ")}`}`,
        one.effect === "confirm" ? "asks all but" : "only",
        one.to.join(", ") || "nobody",
        [one.from, one.until].some((end) => end !== null) ? `${day(one.from)} to ${day(one.until)}` : "",
        `${one.by ?? ""} ${day(one.at)}`.trim(),
        one.isYours ? "yes" : "",
        one.note ?? "",
      ]);
      const headings = ["id", "cells", "edited by", "", "time", "made", "yours", "note"];
      io.out(columns(headings.map(palette(io).heading), rows, io.width));
    }
    return 0;
  });
}

function protect(file: string, change: ProtectionChange, options: ProtectOptions, io: Io): Promise<ExitCode> {
  const { confirm, preview: isPreview, format } = options;
  return withStore(file, options, isPreview ? "read" : "write", async (open) => {
    const administrator = as(open, options, io);
    const preview = await administrator.previewProtection(change);
    // What was read is what is confirmed.
    const confirmed = confirm === true ? preview.outcome.warnings.map(({ id }) => id) : [];
    const outcome = isPreview ? preview.outcome : await administrator.makeProtection(change, { confirmed });
    const isDone = !isPreview && outcome.accepted;
    if (format === "json") io.out(`${JSON.stringify({ changed: isDone, ...preview, outcome }, null, 2)}\n`);
    else await print(open, outcome, preview.differences, isPreview === true, io);
    return isDone || (isPreview && (outcome.accepted || outcome.reason === "unconfirmed")) ? 0 : 1;
  });
}

async function print(
  { nameOf }: OpenStore,
  outcome: RoleOutcome,
  differences: readonly SharedDifference[],
  isPreview: boolean,
  io: Io,
): Promise<void> {
  const paint = palette(io);
  if (isRefused(outcome, io)) return;
  for (const { persons, gains, losses } of differences) {
    io.out(`${paint.heading((await Promise.all(persons.map(nameOf))).join(", "))}\n`);
    const body = [
      ...gains.map((line) => accessCells(paint.yes("+"), line)),
      ...losses.map((line) => accessCells(paint.no("-"), line)),
    ];
    io.out(`${columns(["", ...accessHeadings.map(paint.quiet)], body.slice(0, mostLines), io.width)}\n`);
  }
  if (differences.length === 0) io.out("Nothing that anybody may do changes by it now.\n\n");
  printEnd(outcome, isPreview, io);
}
