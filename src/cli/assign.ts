import { administration } from "../people/administration.js";
import { type ChangeRolesOptions, changeRoles } from "./change-roles.js";
import type { CliCommand } from "./command.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { palette } from "./paint.js";
import { declareData, withStore } from "./store.js";

interface AssignOptions extends ChangeRolesOptions {
  readonly bootstrap?: true;
  readonly insteadOf?: string;
}

export const assignCommand: CliCommand<AssignOptions> = {
  usage: "assign <file> <person> <role>",
  summary: "Assign a role to a person, after showing what they gain by it",
  declare: (command) => {
    declareData(command);
    command
      .option("--as <person>", "who assigns it: one of those in the role's assignableBy")
      .option("--on <record>", "the key of the record on which a scoped role is assigned")
      .option("--instead-of <role>", "a role to revoke in the same change")
      .option("--from <date>", "when it begins: a date or an instant (default: now)")
      .option("--until <date>", "when it ends: a date or an instant (default: never)")
      .option("--reason <text>", "why; kept in the audit log")
      .option("--preview", "print what would change, and change nothing")
      .option("--confirm", "make the change although there are warnings")
      .option("--bootstrap", "assign it in nobody's name: only for a role that nobody can assign yet");
  },
  run: ([file = "", person = "", role = ""], options, io) => runAssign(file, person, role, options, io),
};

function runAssign(file: string, person: string, role: string, options: AssignOptions, io: Io): Promise<ExitCode> {
  const { on, from, until, reason, bootstrap, insteadOf } = options;
  if (insteadOf !== undefined) {
    if (from !== undefined || bootstrap === true)
      throw new CliError("--instead-of counts at once: leave out --from and --bootstrap");
    const end = until === "never" ? null : until;
    return changeRoles(file, { kind: "replace", person, role, insteadOf, on, until: end, reason }, options, io);
  }
  const given = { person, role, on, from, until, reason };
  if (bootstrap !== true) return changeRoles(file, { kind: "assign", ...given }, options, io);
  return withStore(file, options, "write", async ({ portier, store, nameOf }) => {
    const outcome = await administration(portier, store).bootstrap(given);
    if (options.format === "json") io.out(`${JSON.stringify({ changed: outcome.accepted, outcome }, null, 2)}\n`);
    else if (outcome.accepted) io.out(`${palette(io).yes("done")}  ${await nameOf(person)} is the bootstrap ${role}\n`);
    else for (const { message } of outcome.problems) io.out(`${palette(io).no("refused")}  ${message}\n`);
    return outcome.accepted ? 0 : 1;
  });
}
