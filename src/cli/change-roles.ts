import { type Administrator, administration, type RolePreview } from "../people/administration.js";
import type { RoleChange } from "../people/role-change.js";
import type { RoleOutcome } from "../people/role-outcome.js";
import type { AccessChange } from "../verify/gains.js";
import { accessCells, accessHeadings } from "./access-lines.js";
import { columns } from "./columns.js";
import type { ExitCode, Io } from "./io.js";
import { CliError } from "./io.js";
import { type SessionFlags, sessionOptions } from "./load.js";
import { palette } from "./paint.js";
import { type OpenStore, type StoreOptions, withStore } from "./store.js";

export interface ChangeRolesOptions extends SessionFlags, StoreOptions {
  readonly as?: string;
  readonly on?: string;
  readonly from?: string;
  readonly until?: string;
  readonly reason?: string;
  readonly confirm?: true;
  readonly preview?: true;
  readonly format: "text" | "json";
}

/** How many lines of what is gained or lost are printed. */
export const mostLines = 24;

/**
 * Says what a change comes to, and makes it: at once where there is nothing to warn of, otherwise with `--confirm`. Exit
 * code 1 where nothing was changed.
 */
export function changeRoles(file: string, change: RoleChange, options: ChangeRolesOptions, io: Io): Promise<ExitCode> {
  const { as: assigner, confirm, preview: isPreview, format } = options;
  if (assigner === undefined) throw new CliError("name the person who makes the change: --as PERSON");
  return withStore(file, options, isPreview ? "read" : "write", async (open) => {
    const { request } = sessionOptions(open.portier, options, undefined, io);
    const administrator = administration(open.portier, open.store).as({ person: assigner, request });
    const preview = await administrator.preview(change);
    const outcome = isPreview ? preview.outcome : await made(administrator, change, preview, confirm === true);
    const isDone = !isPreview && outcome.accepted;
    if (format === "json") io.out(`${JSON.stringify({ changed: isDone, ...preview, outcome }, null, 2)}\n`);
    else await print(open, change, assigner, preview, outcome, options, io);
    return isDone || (isPreview && (outcome.accepted || outcome.reason === "unconfirmed")) ? 0 : 1;
  });
}

/** What was read is what is confirmed: a warning that was not shown is not. */
function made(
  administrator: Administrator,
  change: RoleChange,
  { outcome }: RolePreview,
  confirm: boolean,
): Promise<RoleOutcome> {
  return administrator.make(change, { confirmed: confirm ? outcome.warnings.map(({ id }) => id) : [] });
}

async function print(
  open: OpenStore,
  change: RoleChange,
  assigner: string,
  { gains, losses }: RolePreview,
  outcome: RoleOutcome,
  { preview }: ChangeRolesOptions,
  io: Io,
): Promise<void> {
  const paint = palette(io);
  io.out(`${paint.heading(await sentence(open, change, assigner))}\n\n`);
  if (isRefused(outcome, io)) return;
  printLines("gains", "+", gains, io, paint.yes);
  printLines("loses", "-", losses, io, paint.no);
  if (gains.length + losses.length === 0) io.out("Nobody gains or loses access now.\n\n");
  printEnd(outcome, preview === true, io);
}

/** Says why a change is refused, or what it warns of. */
export function isRefused(outcome: RoleOutcome, io: Io): boolean {
  const paint = palette(io);
  if (!outcome.accepted && outcome.reason === "refused") {
    for (const { message, hint } of outcome.problems) {
      io.out(`${paint.no("refused")}  ${hint === undefined ? message : `${message} ${hint}`}\n`);
    }
    return true;
  }
  for (const { message } of outcome.warnings) io.out(`${paint.warning("warning")}  ${message}\n`);
  if (outcome.warnings.length > 0) io.out("\n");
  return false;
}

/** Says whether anything was done. */
export function printEnd({ accepted }: RoleOutcome, isPreview: boolean, io: Io): void {
  const paint = palette(io);
  if (isPreview) io.out(`${paint.quiet("Preview only: nothing was changed.")}\n`);
  else if (accepted) io.out(`${paint.yes("done")}  and written to the audit log\n`);
  else io.out(`${paint.no("not done")}  read the warnings, then repeat the command with --confirm\n`);
}

function printLines(
  heading: string,
  mark: string,
  lines: readonly AccessChange[],
  io: Io,
  tone: (text: string) => string,
): void {
  if (lines.length === 0) return;
  const paint = palette(io);
  // What is sensitive is read first.
  const ordered = [...lines.filter(({ sensitive }) => sensitive), ...lines.filter(({ sensitive }) => !sensitive)];
  const body = ordered.slice(0, mostLines).map((line) => accessCells(tone(mark), line));
  const more = ordered.length - body.length;
  const headings = [paint.heading(heading), ...accessHeadings.map(paint.quiet)];
  io.out(columns(headings, body, io.width));
  io.out(more > 0 ? `${paint.quiet(`and ${more} more: --format json lists all`)}\n\n` : "\n");
}

/** `s-007 Noor Castellan is assigned registrar until 2027-06-30, by s-001 Ines Okoro`. */
async function sentence({ nameOf }: OpenStore, change: RoleChange, assigner: string): Promise<string> {
  const by = `by ${await nameOf(assigner)}`;
  const times = (from: string | undefined, until: string | undefined) =>
    `${from === undefined ? "" : ` from ${from}`}${until === undefined ? "" : ` until ${until}`}`;
  const on = (record: string | undefined) => (record === undefined ? "" : ` of ${record}`);
  switch (change.kind) {
    case "assign":
      return `${await nameOf(change.person)} is assigned ${change.role}${on(change.on)}${times(change.from, change.until)}, ${by}`;
    case "replace":
      return `${await nameOf(change.person)} is assigned ${change.role}${on(change.on)} instead of ${change.insteadOf}${times(undefined, change.until ?? undefined)}, ${by}`;
    case "revoke":
      return `${change.role}${on(change.on)} is revoked from ${await nameOf(change.person)}, ${by}`;
    case "set-expiry":
      return `${change.role}${on(change.on)} of ${await nameOf(change.person)} ends ${change.until ?? "never"}, ${by}`;
    case "delegate":
      return `${await nameOf(change.to)} acts for ${await nameOf(change.of ?? assigner)}${times(change.from, change.until)}, ${by}`;
    case "end-delegation":
      return `${await nameOf(change.to)} no longer acts for ${await nameOf(change.of ?? assigner)}, ${by}`;
    case "set": {
      const what = `${change.table}.${change.field}${on(change.record)}`;
      if (change.level === null) return `${what} is no longer set for ${await nameOf(change.person)}, ${by}`;
      return `${what} is set to ${change.level} for ${await nameOf(change.person)}, ${by}`;
    }
    case "change-person":
      return `the record of ${await nameOf(change.person)} is changed, ${by}`;
    case "change-link":
      return `a record of ${change.table} is ${change.values === null ? "deleted" : change.key === undefined ? "created" : "changed"}, ${by}`;
    default:
      return change satisfies never;
  }
}
